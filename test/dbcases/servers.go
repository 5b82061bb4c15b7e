//go:build unix

package dbcases

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/item/served"
	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// SameDumps compares the dumps of a database on two servers, ignoring the order. plain removes
// expected differences.
func SameDumps(t *testing.T, old, now *dbserver.Server, database string, plain func(string) string) {
	t.Helper()
	count := map[string]int{}
	for sign, s := range map[int]*dbserver.Server{1: old, -1: now} {
		text, err := s.Dump(database)
		fatal.If(t, err)
		for line := range strings.Lines(plain(text)) {
			count[strings.TrimRight(line, ",\n ")] += sign
		}
	}
	said := 0
	for line, n := range count {
		if n != 0 && said < 10 {
			t.Errorf("the engine's own dumps differ: %+d %.300s", n, line)
			said++
		}
	}
}

// Main runs a package's tests between an old and a new server of one engine. If the engine is not
// installed they are skipped, but not with CI=true.
func Main(m *testing.M, start func() (*dbserver.Server, error), old, now **dbserver.Server) {
	os.Exit(func() int {
		for _, s := range []**dbserver.Server{old, now} {
			var err error
			if *s, err = start(); err != nil {
				fmt.Println("tests of a database server are left out:", err)
				if errors.Is(err, dbserver.ErrMissing) && os.Getenv("CI") != "true" {
					return 0
				}
				return 1
			}
			defer (*s).Stop()
		}
		return m.Run()
	}())
}

// SQL runs statements with the engine's own client.
func SQL(t *testing.T, s *dbserver.Server, database, text string) string {
	t.Helper()
	out, err := s.SQL(database, text)
	fatal.If(t, err)
	return out
}

// Sealed seals a database. It returns the facts as read from a kit, a function that loads the
// database on a server, and its rows.
func Sealed[F served.Facts](t *testing.T, e served.Engine[F], o served.Session[F], database string, counts []card.Count) (d F, p served.Loading, rows []byte) {
	t.Helper()
	open := func(b *bytes.Buffer) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b.Bytes())), nil }
	}
	var schema, data bytes.Buffer
	made, err := o.Seal(t.Context(), database, counts, &schema, &data, nil)
	fatal.If(t, err)
	text, err := json.Marshal(made)
	fatal.If(t, errors.Join(err, json.Unmarshal(text, &d)))
	return d, served.Loading{Stage: e.Named(database, "_stage"), Schema: open(&schema), Rows: open(&data), Allow: func(string) error { return nil }}, data.Bytes()
}

// Place puts a sealed database on a server, and returns the notes for the technician.
func Place[F served.Facts](t *testing.T, e served.Engine[F], o served.Session[F], database string, d F, p served.Loading, aside string) string {
	t.Helper()
	p.Stage = e.Named(database, "_stage")
	lacks, err := o.Lacks(t.Context(), database, d)
	if err != nil || len(lacks) > 0 {
		t.Fatalf("the new server lacks %q %v", lacks, err)
	}
	notes, err := o.Stage(t.Context(), d, p)
	fatal.If(t, err)
	fatal.If(t, InPlace(t.Context(), o, database, p.Stage, aside))
	return strings.Join(notes, "\n")
}

// Every returns the step between the points at which a test interrupts: n, or 1 with
// MOVEKIT_SOAK=1. Each run starts at a random point.
func Every(n int) (first, step int) {
	if os.Getenv("MOVEKIT_SOAK") == "1" {
		return 1, 1
	}
	return 1 + rand.IntN(n), n
}

// InPlace renames a staged database into place. An existing one is renamed to aside first, or
// dropped if aside is "".
func InPlace[F served.Facts](ctx context.Context, s served.Session[F], database, stage, aside string) error {
	if r, is := s.(served.Resumer); is {
		if err := errors.Join(r.Resume(ctx, database, aside), r.Resume(ctx, stage, database)); err != nil {
			return err
		}
	}
	there, err := s.Exists(ctx, database)
	if err == nil && there && aside != "" {
		err = s.Rename(ctx, database, aside, served.AtRest)
	} else if err == nil && there {
		err = s.Drop(ctx, database)
	}
	if err != nil {
		return err
	}
	return s.Rename(ctx, stage, database, served.InService)
}

// Same compares a database with an earlier fingerprint.
func Same[F served.Facts](t *testing.T, o served.Session[F], database string, was F, counts []card.Count) {
	t.Helper()
	is, err := o.Fingerprint(t.Context(), database, counts, nil)
	fatal.If(t, err)
	if diffs := dbprint.Compare(was.Print(), is, was.Print().Rewritten(is)); len(diffs) > 0 {
		t.Errorf("old and new differ: %+v", diffs)
	}
}

// Certificate writes a certificate of this computer and its key into a new folder with the owner of
// the folder like.
func Certificate(t *testing.T, like string) (cert, key string) {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "movekit-certificate-")
	fatal.If(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	public, secret := lay.Signed(t, time.Now().Add(24*time.Hour))
	info, err := os.Stat(like)
	fatal.If(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	cert, key = filepath.Join(dir, "server.crt"), filepath.Join(dir, "server.key")
	for name, text := range map[string]string{cert: public, key: secret} {
		fatal.If(t, errors.Join(os.WriteFile(name, []byte(text), 0o600), os.Chown(name, int(owner.Uid), int(owner.Gid)), os.Chown(dir, int(owner.Uid), int(owner.Gid))))
	}
	return cert, key
}
