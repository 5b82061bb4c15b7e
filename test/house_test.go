package test

import (
	"debug/elf"
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// TestImportsRunOneWay sees that the core knows nothing of what stands above
// it, and nothing of terminals and flags.
func TestImportsRunOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "movekit/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	forbidden := []string{"movekit/internal/cli", "movekit/internal/report", "movekit/internal/desk", "movekit/internal/demo", "movekit/internal/table",
		"github.com/spf13", "github.com/jedib0t", "github.com/schollz", "golang.org/x/term", "flag", "log"}
	seen := 0
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); err != nil {
			t.Fatal(err)
		}
		core := strings.HasPrefix(p.ImportPath, "movekit/internal/core/")
		if core {
			seen++
		}
		for _, i := range p.Imports {
			for _, f := range forbidden {
				if core && (i == f || strings.HasPrefix(i, f+"/")) {
					t.Errorf("%s imports %s", p.ImportPath, i)
				}
			}
			if p.ImportPath == "movekit/cmd/movekit" && strings.HasPrefix(i, "movekit/") && i != "movekit/internal/cli" {
				t.Errorf("main imports %s", i)
			}
		}
	}
	if seen < 9 {
		t.Errorf("only %d packages of the core were seen", seen)
	}
}

// TestOneStaticFile sees that the program needs no library of the system.
func TestOneStaticFile(t *testing.T) {
	f, err := elf.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP || p.Type == elf.PT_DYNAMIC {
			t.Errorf("the program has a part of the type %v: it is not static", p.Type)
		}
	}
	if info, err := os.Stat(program); err != nil || info.Size() > 40<<20 {
		t.Errorf("%v %v", info.Size(), err)
	}
}
