package item

import (
	"testing"
	"time"
)

func TestWatch(t *testing.T) {
	start := time.Now()
	if err := watch(100*time.Millisecond, func(func()) error { time.Sleep(time.Minute); return nil }); err != ErrSilent || time.Since(start) > 10*time.Second {
		t.Errorf("a silent place: %v after %v", err, time.Since(start))
	}
	// A location that keeps reporting progress is waited for beyond the limit.
	if err := watch(400*time.Millisecond, func(alive func()) error {
		for range 12 {
			time.Sleep(100 * time.Millisecond)
			alive()
		}
		return nil
	}); err != nil {
		t.Errorf("a slow place: %v", err)
	}
}
