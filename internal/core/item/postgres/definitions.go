package postgres

import (
	"bytes"
	"context"
	"io"
	"os"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
)

// Sections of an archive: before the rows, and after them.
const (
	before = "--section=pre-data"
	after  = "--section=post-data"
)

// definitions returns the entries of an archive, before the rows and after them.
func (s *session) definitions(ctx context.Context, archive string) (pre, post []sqltext.Entry, err error) {
	restore, err := program(ctx, "pg_restore", s.number/10000)
	if err != nil {
		return nil, nil, err
	}
	for _, section := range []struct {
		args []string
		to   *[]sqltext.Entry
	}{{[]string{before, "--create"}, &pre}, {[]string{after}, &post}} {
		var text bytes.Buffer
		said, err := s.run(ctx, "", nil, &text, restore, append(section.args, "--no-tablespaces", "--file=-", archive)...)
		if err != nil {
			return nil, nil, s.programFailed(err, said, "the schema of %s cannot be read")
		}
		*section.to = sqltext.Cut(text.String())
	}
	return pre, post, nil
}

// objects returns the schema in a snapshot, and writes its archive to to.
func (s *session) objects(ctx context.Context, database, snapshot string, to io.Writer) ([]dbprint.Object, error) {
	f, err := s.file("schema-*.dump")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := s.dumpSchema(ctx, database, snapshot, io.MultiWriter(f, to)); err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot write the schema")
	}
	pre, post, err := s.definitions(ctx, f.Name())
	if err != nil {
		return nil, err
	}
	var out []dbprint.Object
	for _, e := range append(pre, post...) {
		out = append(out, e.Object())
	}
	return out, nil
}
