package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/md5" //nolint:gosec // the form of a Debian package asks for it
	_ "embed"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"movekit/examples"
	"movekit/internal/about"
	"movekit/internal/cli"
	"movekit/internal/table"
)

// batch is one release.
type batch struct {
	version  string
	at       time.Time // of the revision; all files have it
	programs map[target]string
	modules  []*debug.Module
}

// file is one file of it.
type file struct {
	name string
	data []byte
	runs bool // whether it is a program
}

//go:embed start.html
var start []byte

const desktop = `[Desktop Entry]
Type=Application
Name=Move Kit
Comment=Move applications, their data and their licences to a new computer
Exec=movekit
Terminal=true
Categories=System;Utility;
`

// stick is the folder for the stick: the programs, the example's cards and one page of
// instructions.
func (b *batch) stick() ([]byte, error) {
	files := []file{{"START.html", start, false}, {"NOTICES.txt", []byte(about.Notices), false}}
	for _, t := range []target{targets[0], targets[2], targets[3], targets[4]} {
		data, err := os.ReadFile(b.programs[t])
		if err != nil {
			return nil, err
		}
		files = append(files, file{t.program(), data, true})
	}
	cards, err := examples.Cards.ReadDir("cards")
	if err != nil {
		return nil, err
	}
	for _, c := range cards {
		data, err := examples.Cards.ReadFile("cards/" + c.Name())
		if err != nil {
			return nil, err
		}
		files = append(files, file{"cards/examples/" + c.Name(), data, false})
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range files {
		h := &zip.FileHeader{Name: "movekit/" + f.name, Method: zip.Deflate, Modified: b.at}
		h.SetMode(map[bool]os.FileMode{true: 0o755, false: 0o644}[f.runs])
		w, err := z.CreateHeader(h)
		if err == nil {
			_, err = w.Write(f.data)
		}
		if err != nil {
			return nil, err
		}
	}
	err = z.Close()
	return out.Bytes(), err
}

// pages are the man pages, completions and other files of a Debian package.
func (b *batch) pages() (files []file, err error) {
	root := cli.Command()
	root.DisableAutoGenTag = true
	keepLines(root)
	dir, err := os.MkdirTemp("", "movekit-man-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "MOVEKIT", Section: "1", Date: &b.at, Source: "Move Kit " + b.version, Manual: "Move Kit"}, dir); err != nil {
		return nil, err
	}
	names, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		packed, err := b.gzip(data)
		if err != nil {
			return nil, err
		}
		files = append(files, file{"usr/share/man/man1/" + filepath.Base(name) + ".gz", packed, false})
	}
	for _, c := range []struct {
		to    string
		write func(*bytes.Buffer) error
	}{
		{"usr/share/bash-completion/completions/movekit", func(w *bytes.Buffer) error { return root.GenBashCompletionV2(w, true) }},
		{"usr/share/zsh/vendor-completions/_movekit", func(w *bytes.Buffer) error { return root.GenZshCompletion(w) }},
		{"usr/share/fish/vendor_completions.d/movekit.fish", func(w *bytes.Buffer) error { return root.GenFishCompletion(w, true) }},
	} {
		var w bytes.Buffer
		if err := c.write(&w); err != nil {
			return nil, err
		}
		files = append(files, file{c.to, w.Bytes(), false})
	}
	return append(files, file{"usr/share/applications/movekit.desktop", []byte(desktop), false}, file{"usr/share/doc/movekit/copyright", []byte(about.Notices), false}), nil
}

// debian is a Debian package (deb(5)).
func (b *batch) debian(t target, program []byte) ([]byte, error) {
	files, err := b.pages()
	if err != nil {
		return nil, err
	}
	files = append(files, file{"usr/bin/movekit", program, true})
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	var sums strings.Builder
	size := 0
	for _, f := range files {
		fmt.Fprintf(&sums, "%x  %s\n", md5.Sum(f.data), f.name)
		size += len(f.data)
	}
	control := fmt.Sprintf("Package: movekit\nVersion: %s\nArchitecture: %s\nMaintainer: Move Kit <movekit@example.org>\nInstalled-Size: %d\nSection: admin\nPriority: optional\nDescription: move applications to a new computer\n Moves line-of-business applications from an old computer to a new one: their\n data, their settings and their licences, and proves that both are the same.\n",
		strings.NewReplacer("-", "~", "+", "+").Replace(b.version), t.processor, size/1024)
	about, err := b.tar([]file{{"control", []byte(control), false}, {"md5sums", []byte(sums.String()), false}})
	if err != nil {
		return nil, err
	}
	data, err := b.tar(files)
	if err != nil {
		return nil, err
	}
	out := []byte("!<arch>\n")
	for _, f := range []file{{"debian-binary", []byte("2.0\n"), false}, {"control.tar.gz", about, false}, {"data.tar.gz", data, false}} {
		out = append(out, fmt.Sprintf("%-16s%-12d%-6d%-6d%-8s%-10d`\n", f.name, b.at.Unix(), 0, 0, "100644", len(f.data))...)
		if out = append(out, f.data...); len(f.data)%2 == 1 {
			out = append(out, '\n')
		}
	}
	return out, nil
}

// tar packs files with their parent folders.
func (b *batch) tar(files []file) ([]byte, error) {
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	made := map[string]bool{"./": true}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "./", Mode: 0o755, ModTime: b.at, Uname: "root", Gname: "root"}); err != nil {
		return nil, err
	}
	for _, f := range files {
		var dirs []string
		for d := path.Dir(f.name); d != "."; d = path.Dir(d) {
			dirs = append(dirs, "./"+d+"/")
		}
		slices.Reverse(dirs)
		for _, d := range dirs {
			if made[d] {
				continue
			}
			made[d] = true
			if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: d, Mode: 0o755, ModTime: b.at, Uname: "root", Gname: "root"}); err != nil {
				return nil, err
			}
		}
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "./" + f.name, Size: int64(len(f.data)), Mode: map[bool]int64{true: 0o755, false: 0o644}[f.runs], ModTime: b.at, Uname: "root", Gname: "root"}); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.gzip(plain.Bytes())
}

func (b *batch) gzip(data []byte) ([]byte, error) {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		_, err = z.Write(data)
	}
	if err == nil {
		err = z.Close()
	}
	return out.Bytes(), err
}

// bill lists the program's modules (CycloneDX 1.5, ECMA-424).
func (b *batch) bill() ([]byte, error) {
	type component struct {
		Type    string `json:"type"`
		Name    string `json:"name"`
		Version string `json:"version"`
		PURL    string `json:"purl"`
	}
	all := []component{}
	for _, m := range b.modules {
		if m.Replace != nil {
			m = m.Replace
		}
		all = append(all, component{"library", m.Path, m.Version, "pkg:golang/" + m.Path + "@" + m.Version})
	}
	return json.MarshalIndent(map[string]any{
		"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
		"metadata":   map[string]any{"timestamp": b.at.Format(time.RFC3339), "component": map[string]string{"type": "application", "name": "movekit", "version": b.version}},
		"components": all,
	}, "", "  ")
}

// keepLines keeps the line breaks of laid-out text in man pages, as a block of its own.
func keepLines(c *cobra.Command) {
	all := strings.Split(c.Long, "\n\n")
	for i, p := range all {
		if table.LaidOut(p) {
			all[i] = "    " + strings.ReplaceAll(p, "\n", "\n    ")
		}
	}
	c.Long = strings.Join(all, "\n\n")
	for _, sub := range c.Commands() {
		keepLines(sub)
	}
}
