// Command bench measures Move Kit against the standard tools on the same
// bytes, both sides in one run: `make bench`.
package main

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"movekit/internal/core/tree"
	"movekit/internal/table"
)

const cardText = `card: 1
name: bulk
title: Bulk
items:
  - {name: data, kind: folder, path: /srv/data}
`

// passphrase has the form of a generated one.
const passphrase = "agency-balcony-cabana-dagger-eagle-fable"

// bench is one run of all measurements.
type bench struct {
	dir, program string
	runs         int
	files        int // of the survey
	card         string
	cold         bool
	out          table.Table
}

// result is the measurement of one command.
type result struct {
	wall time.Duration
	rss  int64 // peak, in bytes
}

func main() {
	dir := flag.String("dir", "", "folder for the data; else a temporary one")
	program := flag.String("program", "build/movekit", "the program to measure")
	runs := flag.Int("runs", 3, "how often each side runs; the median counts")
	long := flag.Bool("long", os.Getenv("BENCH") == "long", "also 1,000,000 files, a file of 50 GB and a large registry key (default: if BENCH=long)")
	only := flag.String("only", "pack,slow,unpack,verify,status,network,growth,drift,survey,sqlite,postgresql,mariadb,firebird,storm,desk", "which measurements; unpack, verify, status and network need a pack before; also million, sparse, registry")
	flag.Parse()
	if err := run(*dir, *program, *runs, *long, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(dir, program string, runs int, long bool, only string) error {
	for _, tool := range []string{"tar", "zstd", "age", "age-keygen", "b3sum", "sha256sum"} {
		if _, err := exec.LookPath(tool); err != nil {
			return fmt.Errorf("%s is not installed", tool)
		}
	}
	if dir == "" {
		temp, err := os.MkdirTemp("", "movekit-bench-")
		if err != nil {
			return err
		}
		defer tree.RemoveTree(temp)
		dir = temp
	}
	program, err := filepath.Abs(program)
	if err != nil {
		return err
	}
	b := &bench{dir: dir, program: program, runs: runs, files: 100000, card: cardText, cold: os.Geteuid() == 0}
	b.out.Head = []string{"work", "movekit", "against", "ratio", "goal", "", "memory", "against what"}
	b.out.Right = []int{2, 3, 4, 5, 7}
	if slices.ContainsFunc([]string{"pack", "slow", "unpack", "verify", "status", "growth"}, func(part string) bool { return strings.Contains(only, part) }) {
		fmt.Println("making the data: 20,000 text files, 80 noise files of 5 MB, one file of 600 MB")
		if err := b.generate("bulk", 20000, 80, 600<<20); err != nil {
			return err
		}
	}
	if long {
		b.files = 1000000
		only += ",million,sparse,registry"
	}
	parts := map[string]func() error{"pack": b.pack, "slow": b.slow, "unpack": b.unpack, "verify": b.verify, "status": b.status, "network": b.network, "growth": b.growth, "drift": b.drift, "storm": b.storm, "desk": b.desk, "sqlite": b.sqlite, "survey": func() error { return b.survey(b.files) }, "million": b.million, "sparse": b.sparse, "registry": b.registry}
	for _, e := range servers {
		parts[e.kind] = func() error { return b.served(e) }
	}
	for name := range strings.SplitSeq(only, ",") {
		if part := parts[name]; part != nil {
			if err := part(); err != nil {
				return err
			}
		}
	}
	cache := "caches dropped before each run where the row says cold"
	if !b.cold {
		cache = "caches could not be dropped (not root): all rows are warm"
	}
	fmt.Printf("\nMedian of %d runs of whole processes, both sides in turn; %s.\n%s", b.runs, cache, b.out.String())
	return nil
}

// computer creates the folder of a Linux computer with the given data.
func (b *bench) computer(name string) (string, error) {
	root := filepath.Join(b.dir, name)
	for file, text := range map[string]string{"etc/hostname": name, "etc/machine-id": name + "-0123456789abcdef", "home/.keep": ""} {
		path := filepath.Join(root, file)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return "", err
		}
		if err := os.WriteFile(path, []byte(text+"\n"), 0o644); err != nil {
			return "", err
		}
	}
	return root, os.MkdirAll(filepath.Join(root, "srv"), 0o755)
}

var words = strings.Fields("berth boat buoy pier quay mooring tide ebb flow slip hoist cradle anchor chain fender rope lamp chart signal harbour ledger paid unpaid arrives leaves owner length width metre invoice")

func text(r *rand.Rand, n int) []byte {
	out := make([]byte, 0, n+16)
	for len(out) < n {
		out = fmt.Appendf(out, "%s %d, ", words[r.IntN(len(words))], r.IntN(10000))
	}
	return out[:n]
}

func noise(r *rand.Rand, n int) []byte {
	out := make([]byte, n)
	for i := 0; i+8 <= n; i += 8 {
		v := r.Uint64()
		for k := range 8 {
			out[i+k] = byte(v >> (8 * k))
		}
	}
	return out
}

// generate creates the data of one computer: small text files of 10 KB on average, noise files of 5
// MB, and one file that is half text, half noise.
func (b *bench) generate(name string, small, big int, huge int64) error {
	root, err := b.computer(name)
	if err != nil {
		return err
	}
	data := filepath.Join(root, "srv", "data")
	r := rand.New(rand.NewPCG(1, 2))
	for i := range small {
		dir := filepath.Join(data, fmt.Sprintf("year-%02d", i/1000%100), fmt.Sprintf("week-%02d", i/100%10))
		if i%100 == 0 {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("record-%06d.txt", i)), text(r, 1000+r.IntN(18000)), 0o644); err != nil {
			return err
		}
	}
	for i := range big {
		if err := os.WriteFile(filepath.Join(data, fmt.Sprintf("photo-%02d.bin", i)), noise(r, 5_000_000), 0o644); err != nil {
			return err
		}
	}
	if huge == 0 {
		return nil
	}
	f, err := os.Create(filepath.Join(data, "archive.dat"))
	if err != nil {
		return err
	}
	defer f.Close()
	for n := int64(0); n < huge; n += 1 << 20 {
		block := noise(r, 1<<20)
		if n/(1<<20)%2 == 0 {
			block = text(r, 1<<20)
		}
		if _, err := f.Write(block); err != nil {
			return err
		}
	}
	return f.Close()
}

// timed runs a command and measures it. It drops the caches first if cold is true.
func (b *bench) timed(cold bool, name string, args ...string) (result, error) {
	syscall.Sync()
	if cold && b.cold {
		if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3\n"), 0); err != nil {
			b.cold = false
		}
	}
	cmd := exec.Command(name, args...)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), "MOVEKIT_PASSPHRASE="+passphrase)
	var said strings.Builder
	cmd.Stderr = &said
	start := time.Now()
	if err := cmd.Run(); err != nil {
		return result{}, fmt.Errorf("%s %v: %w\n%s", name, args, err, said.String())
	}
	r := result{wall: time.Since(start)}
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		r.rss = u.Maxrss << 10
	}
	return r, nil
}

// side is one side of a comparison. before prepares it and is not timed.
type side struct {
	before  func() error
	command []string
}

func (b *bench) movekit(args ...string) []string {
	return append([]string{b.program, "--quiet", "--kit", "kit"}, args...)
}

func shell(script string) []string { return []string{"bash", "-o", "pipefail", "-c", script} }

// compare runs both sides in turn and adds a row.
// goal is the most that the ratio should be; 0 means none.
func (b *bench) compare(work, against string, goal float64, cold bool, ours, theirs side) error {
	var a, z []result
	for range b.runs {
		for _, s := range []struct {
			side
			to *[]result
		}{{ours, &a}, {theirs, &z}} {
			if s.before != nil {
				if err := s.before(); err != nil {
					return err
				}
			}
			r, err := b.timed(cold, s.command[0], s.command[1:]...)
			if err != nil {
				return err
			}
			*s.to = append(*s.to, r)
		}
	}
	us, them := median(a), median(z)
	if cold {
		work += ", cold"
	}
	b.row(work, us, them, us.wall.Seconds()/them.wall.Seconds(), goal, against)
	return nil
}

// row adds a row, and marks it if the ratio or the memory misses its goal.
func (b *bench) row(work string, us, them result, ratio, goal float64, against string) {
	missed, most := "", "-"
	if goal > 0 {
		most = fmt.Sprintf("%.2f", goal)
	}
	if goal > 0 && ratio > goal {
		missed = "missed"
	}
	if us.rss > mostMemory {
		missed = strings.TrimSpace(missed + " memory")
	}
	b.out.Add(work, seconds(us.wall), seconds(them.wall), fmt.Sprintf("%.2f", ratio), most, missed, fmt.Sprintf("%d MB", us.rss/1e6), against)
	fmt.Printf("%-28s %s against %s: %.2f (goal %s) %s\n", work, seconds(us.wall), seconds(them.wall), ratio, most, missed)
}

// mostMemory is the goal for the memory of every command, in bytes.
const mostMemory = 200_000_000

func median(rs []result) result {
	slices.SortFunc(rs, func(a, b result) int { return int(a.wall - b.wall) })
	m := rs[len(rs)/2]
	for _, r := range rs {
		m.rss = max(m.rss, r.rss)
	}
	return m
}

func seconds(d time.Duration) string {
	if d < 100*time.Millisecond {
		return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

func (b *bench) remove(names ...string) error {
	for _, n := range names {
		if err := tree.RemoveTree(filepath.Join(b.dir, n)); err != nil {
			return err
		}
	}
	return nil
}

// newKit creates an empty kit for a computer.
func (b *bench) newKit(computer string) error {
	if err := b.remove("kit"); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(b.dir, "bulk.yaml"), []byte(b.card), 0o644); err != nil {
		return err
	}
	_, err := b.timed(false, b.program, "--quiet", "new", "kit", "--root", computer, "--cards", "bulk.yaml")
	return err
}

// ageKey creates the key for the other side of the comparison.
func (b *bench) ageKey() error {
	_, err := b.timed(false, "bash", "-c", "rm -f key.txt; age-keygen -o key.txt 2>/dev/null; age-keygen -y key.txt > key.pub")
	return err
}

func (b *bench) pack() error {
	if err := b.ageKey(); err != nil {
		return err
	}
	for _, cold := range []bool{true, false} {
		err := b.compare("pack", "tar | zstd -3 -T0 | age, which only writes", 0.95, cold,
			side{func() error { return b.newKit("bulk") }, b.movekit("pack", "--root", "bulk")},
			side{func() error { return b.remove("their.age") }, shell("tar -C bulk/srv/data -c . | zstd -3 -T0 -q | age -R key.pub -o their.age")})
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) unpack() error {
	if _, err := b.computer("new"); err != nil {
		return err
	}
	for _, cold := range []bool{true, false} {
		err := b.compare("unpack", "age -d | zstd -d | tar x, and sync", 0.9, cold,
			side{func() error { return b.remove("new/srv/data") }, b.movekit("unpack", "--root", "new")},
			side{func() error {
				return errors.Join(b.remove("theirs"), os.Mkdir(filepath.Join(b.dir, "theirs"), 0o755))
			}, shell("age -d -i key.txt their.age | zstd -d -q | tar -C theirs -x && sync -f theirs")})
		if err != nil {
			return err
		}
	}
	return b.remove("theirs", "their.age")
}

func (b *bench) verify() error {
	for _, cold := range []bool{true, false} {
		goal := map[bool]float64{true: 0.9, false: 1.2}[cold]
		if err := b.compare("verify", "b3sum over the files, on all cores", goal, cold,
			side{nil, b.movekit("verify", "--root", "new")}, side{nil, shell("find new/srv/data -type f -print0 | xargs -0 b3sum > sums.txt")}); err != nil {
			return err
		}
	}
	return nil
}

// status measures the start: the ratio is the time in units of 20 ms.
func (b *bench) status() error {
	for name, args := range map[string][]string{"status": {"--quiet", "--kit", "kit", "status"}, "completion": {"__complete", "pack", "--kit", "kit", ""}, "version": {"version"}} {
		var took []result
		for range 20 {
			r, err := b.timed(false, "env", append([]string{"-u", "MOVEKIT_PASSPHRASE", b.program}, args...)...) // a passphrase takes time by design
			if err != nil {
				return err
			}
			took = append(took, r)
		}
		us := median(took)
		b.row(name, us, result{wall: 20 * time.Millisecond}, us.wall.Seconds()/0.020, 1, "20 ms")
	}
	return nil
}

// growth packs 10 times as many files.
func (b *bench) growth() error {
	if err := b.remove("new", "kit"); err != nil {
		return err
	}
	if err := errors.Join(b.generate("many", 100000, 0, 0), b.generate("few", 10000, 0, 0)); err != nil {
		return err
	}
	pack := func(computer string) side {
		return side{func() error { return b.newKit(computer) }, b.movekit("pack", "--root", computer)}
	}
	return b.compare("pack 100,000 files", "pack 10,000 files", 10.5, false, pack("many"), pack("few"))
}

// drift checks 100,000 sealed files, of which none has changed.
func (b *bench) drift() error {
	if _, err := os.Stat(filepath.Join(b.dir, "many")); err != nil {
		if err := b.generate("many", 100000, 0, 0); err != nil {
			return err
		}
	}
	if err := b.newKit("many"); err != nil {
		return err
	}
	if _, err := b.timed(false, b.program, b.movekit("pack", "--root", "many")[1:]...); err != nil {
		return err
	}
	for _, cold := range []bool{true, false} {
		if err := b.compare("drift of 100,000 files", "find -printf '%s %T@'", 1.5, cold,
			side{nil, append([]string{"env", "-u", "MOVEKIT_PASSPHRASE"}, b.movekit("status", "--root", "many")...)}, side{nil, shell("find many/srv/data -printf '%s %T@\n' > list.txt")}); err != nil {
			return err
		}
	}
	return nil
}

// survey searches a computer whose data no card covers. One file in twenty may be a database, by
// its suffix, and must be opened.
func (b *bench) survey(files int) error {
	name := fmt.Sprintf("wide-%d", files)
	root, err := b.computer(name)
	if err != nil {
		return err
	}
	fmt.Printf("making %d files\n", files)
	r := rand.New(rand.NewPCG(3, 4))
	for i := range files {
		dir := filepath.Join(root, "srv", fmt.Sprintf("app-%02d", i/1000%20), fmt.Sprintf("folder-%03d", i/1000))
		if i%1000 == 0 {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
		}
		file, data := fmt.Sprintf("record-%07d.txt", i), []byte("paid\n")
		if i%20 == 0 {
			file, data = fmt.Sprintf("table-%07d.dat", i), text(r, 4200)
		}
		if err := os.WriteFile(filepath.Join(dir, file), data, 0o644); err != nil {
			return err
		}
	}
	theirs := shell("find " + name + "/srv -printf '%s %T@ %p\\n' > list.txt && find " + name + "/srv -name '*.dat' -print0 | xargs -0 head -qc 4096 > /dev/null")
	for _, cold := range []bool{true, false} {
		if err := b.compare(fmt.Sprintf("survey --wide, %d files", files), "find -printf, and the first 4 KiB of 1 in 20", 0.8, cold,
			side{nil, []string{b.program, "--quiet", "survey", "--wide", "--json", "--root", name}}, side{nil, theirs}); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(b.dir, "wide.yaml"), []byte("card: 1\nname: bulk\ntitle: Bulk\nitems: [{name: data, kind: folder, path: /srv}]\n"), 0o644); err != nil {
		return err
	}
	err = b.compare(fmt.Sprintf("survey, %d files", files), "find -printf", 0, false,
		side{nil, []string{b.program, "--quiet", "survey", "--json", "--cards", "wide.yaml", "--root", name}}, side{nil, shell("find " + name + "/srv -printf '%s %T@ %p\\n' > list.txt")})
	return errors.Join(err, b.remove(name))
}
