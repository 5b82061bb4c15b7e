// Command release creates a release: the programs, Debian packages with man pages and completions,
// the folder for the stick as a zip, a list of the program's modules, and checksums. Two runs of
// one revision create the same bytes.
package main

import (
	"crypto/sha256"
	"debug/buildinfo"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// target is a system that the program is built for.
type target struct{ system, processor string }

var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"windows", "amd64"}, {"windows", "386"}, {"darwin", "arm64"}, {"darwin", "amd64"}}

func (t target) program() string {
	switch {
	case t.system == "windows" && t.processor == "386":
		return "movekit-32bit.exe"
	case t.system == "windows":
		return "movekit.exe"
	case t.system == "darwin":
		return "movekit-macos-" + t.processor
	}
	return "movekit"
}

func main() {
	out := flag.String("out", "build/release", "folder that is made anew")
	flag.Parse()
	if err := release(*out); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// sign signs a Windows program if a certificate is given: SIGN_CERT is a PKCS #12 file, and
// SIGN_PASS a file with its passphrase. Signed releases are not reproducible.
func sign(name string, t target) error {
	cert := os.Getenv("SIGN_CERT")
	if cert == "" || t.system != "windows" {
		return nil
	}
	cmd := exec.Command("osslsigncode", "sign", "-pkcs12", cert, "-readpass", os.Getenv("SIGN_PASS"), "-h", "sha256", "-n", "Move Kit", "-in", name, "-out", name+".signed")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s cannot be signed: %w\n%s", name, err, out)
	}
	return os.Rename(name+".signed", name)
}

// release builds the programs, and packages them.
func release(out string) error {
	if err := os.RemoveAll(out); err != nil {
		return err
	}
	built := filepath.Join(out, "programs")
	programs := map[target]string{}
	for _, t := range targets {
		name := filepath.Join(built, t.system+"-"+t.processor, t.program())
		cmd := exec.Command("go", "build", "-buildvcs=auto", "-trimpath", "-ldflags", "-s -w", "-o", name, "./cmd/movekit")
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.system, "GOARCH="+t.processor)
		cmd.Stderr = os.Stderr
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("%s cannot be built: %w", name, err)
		}
		if err := sign(name, t); err != nil {
			return err
		}
		programs[t] = name
	}
	info, err := buildinfo.ReadFile(programs[targets[0]])
	if err != nil {
		return err
	}
	b := batch{version: strings.TrimPrefix(info.Main.Version, "v"), at: time.Unix(0, 0).UTC(), programs: programs, modules: info.Deps}
	for _, s := range info.Settings {
		if s.Key == "vcs.time" {
			if b.at, err = time.Parse(time.RFC3339, s.Value); err != nil {
				return err
			}
		}
	}
	if err := b.pack(out); err != nil {
		return err
	}
	return os.RemoveAll(built)
}

// pack creates all files of a release in a folder.
func (b *batch) pack(out string) error {
	var files []file
	for _, t := range targets {
		data, err := os.ReadFile(b.programs[t])
		if err != nil {
			return err
		}
		ending := ""
		if t.system == "windows" {
			ending = ".exe"
		}
		files = append(files, file{fmt.Sprintf("movekit-%s-%s-%s%s", b.version, t.system, t.processor, ending), data, true})
		if t.system == "linux" {
			deb, err := b.debian(t, data)
			if err != nil {
				return err
			}
			files = append(files, file{fmt.Sprintf("movekit_%s_%s.deb", b.version, t.processor), deb, false})
		}
	}
	stick, err := b.stick()
	if err != nil {
		return err
	}
	modules, err := b.bill()
	if err != nil {
		return err
	}
	files = append(files, file{"movekit-" + b.version + "-stick.zip", stick, false}, file{"movekit-" + b.version + ".cdx.json", modules, false})
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	var sums strings.Builder
	for _, f := range files {
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(f.data), f.name)
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	for _, f := range append(files, file{"SHA256SUMS", []byte(sums.String()), false}) {
		if err := os.WriteFile(filepath.Join(out, f.name), f.data, map[bool]os.FileMode{true: 0o755, false: 0o644}[f.runs]); err != nil {
			return err
		}
	}
	return nil
}
