//go:build !windows

package jobs

import (
	"context"
	"errors"

	"movekit/internal/core/steps"
)

// errNotWindows is the error of the functions below: only a running Windows has a service manager.
var errNotWindows = errors.New("this is not a running Windows")

func serviceRuns(string) (bool, error)               { return false, nil }
func stopService(context.Context, string) error      { return errNotWindows }
func startService(string) error                      { return errNotWindows }
func setServiceStart(string, steps.Starts) error     { return errNotWindows }
func createService(string, definition, string) error { return errNotWindows }
func deleteService(string) error                     { return errNotWindows }
