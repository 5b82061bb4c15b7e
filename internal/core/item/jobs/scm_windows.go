package jobs

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"
	"golang.org/x/sys/windows/svc/mgr"

	"movekit/internal/core/steps"
)

// The functions below call the service manager ("Service Functions" in the Windows documentation). A service that it does
// not know gives fs.ErrNotExist.

func withService(name string, do func(*mgr.Service) error) error {
	m, err := mgr.Connect()
	if err != nil {
		return err
	}
	defer m.Disconnect() //nolint:errcheck // nothing was changed by it
	s, err := m.OpenService(name)
	if errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST) {
		return fs.ErrNotExist
	}
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

func serviceRuns(name string) (runs bool, err error) {
	// A user who is not an administrator may ask too.
	m, err := windows.OpenSCManager(nil, nil, windows.SC_MANAGER_CONNECT)
	if err != nil {
		return false, err
	}
	defer windows.CloseServiceHandle(m) //nolint:errcheck // it was only read
	text, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return false, err
	}
	h, err := windows.OpenService(m, text, windows.SERVICE_QUERY_STATUS)
	if errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST) {
		return false, fs.ErrNotExist
	}
	if err != nil {
		return false, err
	}
	defer windows.CloseServiceHandle(h) //nolint:errcheck // it was only read
	var is windows.SERVICE_STATUS
	err = windows.QueryServiceStatus(h, &is)
	return is.CurrentState != windows.SERVICE_STOPPED, err
}

// stopTime is how long a service may take to stop.
const stopTime = time.Minute

func stopService(ctx context.Context, name string) error {
	return withService(name, func(s *mgr.Service) error {
		is, err := s.Query()
		if err != nil || is.State == svc.Stopped {
			return err
		}
		if is.State != svc.StopPending {
			if is, err = s.Control(svc.Stop); err != nil {
				return err
			}
		}
		for end := time.Now().Add(stopTime); is.State != svc.Stopped; {
			if time.Now().After(end) || ctx.Err() != nil {
				return errors.New("it did not stop in time")
			}
			time.Sleep(200 * time.Millisecond)
			if is, err = s.Query(); err != nil {
				return err
			}
		}
		return nil
	})
}

func startService(name string) error {
	return withService(name, func(s *mgr.Service) error {
		err := s.Start()
		if errors.Is(err, windows.ERROR_SERVICE_ALREADY_RUNNING) {
			return nil
		}
		return err
	})
}

var startTypes = map[steps.Starts]uint32{steps.Never: mgr.StartDisabled, steps.Manually: mgr.StartManual, steps.Automatic: mgr.StartAutomatic, steps.Delayed: mgr.StartAutomatic}

func setServiceStart(name string, when steps.Starts) error {
	return withService(name, func(s *mgr.Service) error {
		return windows.ChangeServiceConfig(s.Handle, windows.SERVICE_NO_CHANGE, startTypes[when], windows.SERVICE_NO_CHANGE, nil, nil, nil, nil, nil, nil, nil)
	})
}

func createService(name string, d definition, password string) error {
	m, err := mgr.Connect()
	if err != nil {
		return err
	}
	defer m.Disconnect() //nolint:errcheck // the service exists
	text := func(s string) *uint16 {
		if s == "" {
			return nil
		}
		p, perr := windows.UTF16PtrFromString(s)
		err = errors.Join(err, perr)
		return p
	}
	var needs *uint16
	if len(d.Needs) > 0 {
		var all []uint16
		for _, n := range d.Needs {
			one, nerr := windows.UTF16FromString(n)
			err = errors.Join(err, nerr)
			all = append(all, one...)
		}
		needs = &append(all, 0)[0]
	}
	args := []*uint16{text(name), text(d.Title), text(d.Program), text(d.Group), text(d.Account), text(password)}
	if err != nil {
		return err
	}
	h, err := windows.CreateService(m.Handle, args[0], args[1], windows.SERVICE_ALL_ACCESS, d.Type, mgr.StartDisabled, d.OnError, args[2], args[3], nil, needs, args[4], args[5])
	if errors.Is(err, windows.ERROR_SERVICE_EXISTS) {
		return setServiceStart(name, steps.Never)
	}
	if err != nil {
		return err
	}
	return windows.CloseServiceHandle(h)
}

func deleteService(name string) error {
	return withService(name, func(s *mgr.Service) error {
		err := s.Delete()
		if errors.Is(err, windows.ERROR_SERVICE_MARKED_FOR_DELETE) {
			return nil
		}
		return err
	})
}
