//go:build !windows

package demo

// features returns none: the check is for Windows.
func features() []feature { return nil }
