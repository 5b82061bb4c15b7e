package wide

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/process"

	"movekit/internal/core/machine"
)

// engines maps programs of database servers to their names.
var engines = map[string]string{
	"postgres": "PostgreSQL", "postmaster": "PostgreSQL", "mariadbd": "MariaDB", "mysqld": "MySQL", "firebird": "Firebird", "fbserver": "Firebird",
	"sqlservr": "SQL Server", "mongod": "MongoDB", "redis-server": "Redis", "oracle": "Oracle", "db2sysc": "Db2",
}

// askTime limits how long a server may take to list its databases.
const askTime = 10 * time.Second

// servers returns the running database servers with their databases. The walk finds their data
// folders.
func (s *Search) servers(ctx context.Context) []Finding {
	if s.Computer.Root() != "" {
		return s.simulatedServers(ctx)
	}
	procs, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return nil
	}
	var out []Finding
	for _, p := range procs {
		name, err := p.NameWithContext(ctx)
		if err != nil {
			continue
		}
		engine := engines[strings.TrimSuffix(strings.ToLower(name), ".exe")]
		if engine == "" {
			continue
		}
		if parent, err := p.ParentWithContext(ctx); err == nil {
			if pn, err := parent.NameWithContext(ctx); err == nil && pn == name {
				continue // a worker process of the server
			}
		}
		f := Finding{Class: Server, What: fmt.Sprintf("%s server, running (process %d)", engine, p.Pid), Newest: s.Now}
		if f.Where, err = p.ExeWithContext(ctx); err != nil {
			f.Where = name
		}
		if engine == "PostgreSQL" {
			f.postgres(ctx, p)
		}
		out = append(out, f)
	}
	return out
}

// simulatedServers returns the servers of a simulated computer.
func (s *Search) simulatedServers(ctx context.Context) []Finding {
	var names []string
	for n := range engines {
		names = append(names, n)
	}
	running, err := s.Computer.Running(ctx, names)
	if err != nil {
		return nil
	}
	var out []Finding
	for _, p := range running {
		engine := engines[strings.TrimSuffix(strings.ToLower(p.Name), ".exe")]
		out = append(out, Finding{Class: Server, What: fmt.Sprintf("%s server, running (process %d)", engine, p.PID), Where: p.Name, Newest: s.Now})
	}
	return out
}

// postgres lists the databases of a PostgreSQL server, with its own client, as the user that the
// server runs as. If the login fails, the server is reported without databases.
func (f *Finding) postgres(ctx context.Context, p *process.Process) {
	args, err := p.CmdlineSliceWithContext(ctx)
	if err != nil {
		return
	}
	dir := argument(args, "-D")
	if !filepath.IsAbs(dir) {
		dir, _ = p.CwdWithContext(ctx) // a server runs in its data folder
	}
	f.folder = dir
	port, socket := "5432", ""
	// postmaster.pid has the process id, data folder, start time, port and socket folder.
	if pid, err := os.Open(filepath.Join(dir, "postmaster.pid")); err == nil {
		var lines []string
		for sc := bufio.NewScanner(pid); sc.Scan() && len(lines) < 5; {
			lines = append(lines, strings.TrimSpace(sc.Text()))
		}
		pid.Close()
		if len(lines) == 5 {
			port, socket = lines[3], lines[4]
		}
	}
	f.Details = append(f.Details, "data folder "+dir, "port "+port)
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	const query = "SELECT datname, pg_database_size(oid) FROM pg_database WHERE NOT datistemplate ORDER BY 2 DESC"
	cmd := exec.CommandContext(ctx, filepath.Join(filepath.Dir(f.Where), "psql"), "-XAtw", "-F", "\t", "-p", port, "-d", "postgres", "-c", query)
	if socket != "" {
		cmd.Args = append(cmd.Args, "-h", socket)
	}
	if err := machine.RunAs(cmd, p.Pid); err != nil {
		f.Details = append(f.Details, "its databases are unknown: "+err.Error())
		return
	}
	said, err := cmd.Output()
	if err != nil {
		f.Details = append(f.Details, "its databases are unknown: the login failed")
		return
	}
	for line := range strings.Lines(string(said)) {
		name, size, ok := strings.Cut(strings.TrimSpace(line), "\t")
		if !ok {
			continue
		}
		var n int64
		fmt.Sscan(size, &n)
		f.Bytes += n
		f.Count++
		if len(f.Details) < maxDetails {
			f.Details = append(f.Details, fmt.Sprintf("database %s, %s", name, humanize.Bytes(uint64(n))))
		}
	}
}

// argument returns the value of a command-line option.
func argument(args []string, option string) string {
	for i, a := range args {
		if a == option && i+1 < len(args) {
			return args[i+1]
		}
		if v, ok := strings.CutPrefix(a, option); ok && v != "" {
			return strings.TrimPrefix(v, "=")
		}
	}
	return ""
}
