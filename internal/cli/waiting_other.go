//go:build !unix

package cli

import (
	"os"
	"time"
)

// waiting reports whether more was typed. A console of Windows hands out line by line,
// and does not tell.
func waiting(*os.File, time.Duration) bool { return false }
