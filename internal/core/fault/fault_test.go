//go:build unix

package fault

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"syscall"
	"testing"
)

// TestKinds checks which kind an error gets from its cause.
func TestKinds(t *testing.T) {
	lost := &Error{Kind: Changed, What: "it changed", Lost: "a file", App: "tern"}
	for _, c := range []struct {
		cause error
		kind  Kind
		text  string
	}{
		{nil, Missing, "cannot read x"},
		{errors.New("odd"), Missing, "cannot read x: odd"},
		{&fs.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}, NoSpace, "cannot read x: write x: no space left on device"},
		{fmt.Errorf("there: %w", syscall.EDQUOT), NoSpace, "cannot read x: there: disk quota exceeded"},
		{syscall.EROFS, ReadOnly, "cannot read x: read-only file system"},
		{syscall.EACCES, Missing, "cannot read x: permission denied"},
		{context.Canceled, Stopped, "cannot read x: stopped"},
		{fmt.Errorf("there: %w", context.Canceled), Stopped, "cannot read x: stopped"},
		{context.DeadlineExceeded, Missing, "cannot read x: context deadline exceeded"},
		{fmt.Errorf("there: %w", lost), Changed, "cannot read x: there: it changed"},
		{Wrap(Damaged, context.Canceled, "reading was stopped"), Stopped, "cannot read x: reading was stopped"},
	} {
		e := Wrap(Missing, c.cause, "cannot read %s", "x")
		if e.Kind != c.kind || KindOf(fmt.Errorf("more: %w", e)) != c.kind || e.Error() != c.text || e.Unwrap() != c.cause {
			t.Errorf("%v: %s, %q", c.cause, e.Kind, e)
		}
		if (e.Lost == "a file" && e.App == "tern") != errors.Is(c.cause, lost) {
			t.Errorf("%v: lost %q, of %q", c.cause, e.Lost, e.App)
		}
	}
	if e := New(Busy, "%d runs", 2); e.Kind != Busy || e.Error() != "2 runs" || KindOf(errors.New("x")) != Internal || KindOf(nil) != Internal {
		t.Errorf("%+v", e)
	}
}
