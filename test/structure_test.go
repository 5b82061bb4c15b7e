package test

import (
	"debug/elf"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/test/fatal"
)

// listed is a package with its imports.
type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) (all []listed) {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "movekit/...").Output()
	fatal.If(t, err)
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); {
		var p listed
		fatal.If(t, dec.Decode(&p))
		all = append(all, p)
	}
	return all
}

// TestImportsRunOneWay checks that the core imports no interface code, terminals or flags.
func TestImportsRunOneWay(t *testing.T) {
	t.Parallel()
	forbidden := []string{"movekit/internal/cli", "movekit/internal/report", "movekit/internal/desk", "movekit/internal/demo", "movekit/internal/table",
		"github.com/spf13", "github.com/jedib0t", "github.com/schollz", "golang.org/x/term", "flag", "log"}
	seen := 0
	for _, p := range packages(t) {
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

// layers are the core's packages from below: none imports one of a later layer.
var layers = [][]string{
	{"fault", "block", "yamltext", "plist", "filemeta", "filename", "bytejson", "version", "card/value"}, {"digest", "pathmap", "passphrase", "shadow", "spare", "volume"},
	{"registry", "card", "seal"},
	{"machine", "journal", "tree", "dbprint", "erase"},
	{"probe", "private", "licence", "kit"},
	{"steps"},
	{"run", "board", "remote"},
	{"item"}, {"item/files", "item/sqlite", "item/stays", "item/keys", "item/served", "item/mariadb/sqltext", "item/postgres/sqltext", "item/postgres/wire"}, {"item/mariadb/schema"}, {"item/mariadb/client"},
	{"item/dbase", "item/jet", "item/jobs", "item/exports", "item/dump", "item/postgres", "item/mariadb", "item/firebird", "item/sqlserver"},
	{"item/kinds"},
	{"survey", "place"}, {"holder"}, {"ready"},
	{"wide", "move"}, {"draft"},
}

// TestLayers checks the order of the core's packages.
func TestLayers(t *testing.T) {
	t.Parallel()
	level := map[string]int{}
	for n, layer := range layers {
		for _, p := range layer {
			level["movekit/internal/core/"+p] = n
		}
	}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "movekit/internal/core/") {
			continue
		}
		own, known := level[p.ImportPath]
		if !known {
			t.Errorf("%s has no place among the layers", p.ImportPath)
		}
		for _, i := range p.Imports {
			if of, ok := level[i]; ok && of >= own && !(of == own && i < p.ImportPath && strings.HasPrefix(p.ImportPath, "movekit/internal/core/item/")) {
				t.Errorf("%s imports %s, which does not lie below it", p.ImportPath, i)
			}
		}
	}
}

// eachFile reads the Go files below a folder, without tests.
func eachFile(t *testing.T, dir string, each func(name string, f *ast.File)) {
	t.Helper()
	err := filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err == nil {
			each(filepath.ToSlash(name), f)
		}
		return err
	})
	fatal.If(t, err)
}

// TestTheCoreIsSilent checks that the core neither prints nor reads input.
func TestTheCoreIsSilent(t *testing.T) {
	t.Parallel()
	speaks := map[string]*regexp.Regexp{"fmt": regexp.MustCompile("^(Print|Scan)"), "os": regexp.MustCompile("^Std(in|out|err)$")}
	said := func(f *ast.File) (out []string) {
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				if x, ok := n.X.(*ast.Ident); ok && speaks[x.Name] != nil && speaks[x.Name].MatchString(n.Sel.Name) {
					out = append(out, x.Name+"."+n.Sel.Name)
				}
			case *ast.CallExpr:
				if x, ok := n.Fun.(*ast.Ident); ok && (x.Name == "print" || x.Name == "println") {
					out = append(out, x.Name)
				}
			}
			return true
		})
		return out
	}
	eachFile(t, "../internal/core", func(name string, f *ast.File) {
		for _, what := range said(f) {
			t.Errorf("%s uses %s", name, what)
		}
	})
	// The check itself finds each violation.
	for _, line := range []string{"fmt.Println(1)", "fmt.Printf(``)", "fmt.Scanln()", "os.Stdin.Close()", "os.Stdout.Close()", "println(1)"} {
		f, err := parser.ParseFile(token.NewFileSet(), "x.go", "package x\nfunc f() { "+line+" }\n", 0)
		if fatal.If(t, err); len(said(f)) != 1 {
			t.Errorf("%s is not found: %v", line, said(f))
		}
	}
}

// TestNoKindSwitches checks that kinds and methods are named only in their own packages and
// tables, and that no code asks for the type of a mover or handle.
func TestNoKindSwitches(t *testing.T) {
	t.Parallel()
	own := map[string]bool{}
	for _, k := range card.Kinds {
		own[string(k.Kind)] = true
	}
	names := map[string]bool{"Folder": true, "File": true, "SQLite": true, "DBase": true, "Jet": true, "Exports": true, "PostgreSQL": true, "MariaDB": true, "Firebird": true, "SQLServer": true, "Dumped": true, "Registry": true, "Service": true, "Schedule": true, "Network": true, "Hosted": true}
	if len(own) != len(names) {
		t.Fatalf("there are %d kinds, and %d are looked for", len(own), len(names))
	}
	for _, dir := range []string{"../internal", "../cmd"} {
		eachFile(t, dir, func(name string, f *ast.File) {
			if strings.HasSuffix(name, "/item/kinds/kinds.go") {
				for _, d := range f.Decls {
					if g, ok := d.(*ast.GenDecl); ok && g.Tok == token.CONST {
						t.Errorf("%s gives a kind another name", name)
					}
				}
			}
			if strings.Contains(name, "/core/card/") || strings.HasSuffix(name, "/item/kinds/kinds.go") || strings.HasSuffix(name, "/holder/holder.go") {
				return
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok {
					if x, ok := s.X.(*ast.Ident); ok && x.Name == "card" && (names[s.Sel.Name] || strings.HasPrefix(s.Sel.Name, "Method") && s.Sel.Name != "Method" && s.Sel.Name != "MethodInfo" && s.Sel.Name != "Methods") {
						t.Errorf("%s asks for card.%s", name, s.Sel.Name)
					}
				}
				if a, ok := n.(*ast.TypeAssertExpr); ok {
					if s, ok := a.Type.(*ast.SelectorExpr); ok && (s.Sel.Name == "Mover" || s.Sel.Name == "Holder" || s.Sel.Name == "Session") {
						t.Errorf("%s asks what a %s is", name, s.Sel.Name)
					}
				}
				return true
			})
		})
	}
}

// ownCommand returns a pattern of this program's commands, as package cli declares them, and of its
// flags in a text. A flag at the start of a text is another program's.
func ownCommand(t *testing.T) *regexp.Regexp {
	t.Helper()
	var names []string
	eachFile(t, "../internal/cli", func(_ string, f *ast.File) {
		ast.Inspect(f, func(n ast.Node) bool {
			kv, ok := n.(*ast.KeyValueExpr)
			if !ok {
				return true
			}
			if key, ok := kv.Key.(*ast.Ident); ok && key.Name == "Use" {
				if lit, ok := kv.Value.(*ast.BasicLit); ok {
					use, _ := strconv.Unquote(lit.Value)
					if name, _, _ := strings.Cut(use, " "); name != "movekit" && name != "help" {
						names = append(names, name)
					}
				}
			}
			return true
		})
	})
	if len(names) < 25 {
		t.Fatalf("only %d commands were found: %v", len(names), names)
	}
	return regexp.MustCompile(`movekit (license|` + strings.Join(names, "|") + `)\b|[ (` + "`" + `]--[a-z]`)
}

// TestTheCoreGivesNoAdvice checks that no text of the core names a command or a flag of this
// program.
func TestTheCoreGivesNoAdvice(t *testing.T) {
	t.Parallel()
	own := ownCommand(t)
	for _, command := range []string{"retire", "close", "board", "ready", "unpack"} {
		if !own.MatchString("Run `movekit " + command + "`.") {
			t.Errorf("%s is not found", command)
		}
	}
	texts := 0
	eachFile(t, "../internal/core", func(name string, f *ast.File) {
		ast.Inspect(f, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			texts++
			text, err := strconv.Unquote(lit.Value)
			if err == nil && own.MatchString(text) {
				t.Errorf("%s says %q", name, text)
			}
			return true
		})
	})
	if texts < 2000 {
		t.Errorf("only %d texts were seen", texts)
	}
}

// TestOneStaticFile checks that the program needs no system library.
func TestOneStaticFile(t *testing.T) {
	t.Parallel()
	f, err := elf.Open(program)
	fatal.If(t, err)
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

// maxPackage is the largest number of lines of a package of the core, without tests. A larger one has more than one subject.
const maxPackage = 2200

// TestPackagesAreSmall checks the size of the packages of the core, and that the architecture describes each.
func TestPackagesAreSmall(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/ARCHITECTURE.md")
	fatal.If(t, err)
	sizes := map[string]int{}
	fatal.If(t, filepath.WalkDir("../internal/core", func(name string, e fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, "_test.go") {
			data, _ := os.ReadFile(name)
			sizes[filepath.Dir(name)] += strings.Count(string(data), "\n")
		}
		return err
	}))
	if len(sizes) < 50 {
		t.Fatalf("%d packages", len(sizes))
	}
	for dir, lines := range sizes {
		if lines > maxPackage {
			t.Errorf("%s has %d lines, more than %d", dir, lines, maxPackage)
		}
		if name := filepath.Base(dir); !regexp.MustCompile("`[a-z/]*\\b" + name + "`").Match(text) {
			t.Errorf("docs/ARCHITECTURE.md does not name %s", dir)
		}
	}
}
