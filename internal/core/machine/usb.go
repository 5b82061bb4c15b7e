package machine

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// USB reports whether a device with a vendor and product id (four hex digits each, separated by a
// colon) is connected. On a Windows disk it reports whether the device was ever connected, so that
// its driver is installed.
func USB(c Computer, id string) (bool, error) {
	vendor, product, _ := strings.Cut(strings.ToLower(id), ":")
	if c.System() == Windows {
		_, err := c.Registry(`HKLM\SYSTEM\CurrentControlSet\Enum\USB\VID_`+strings.ToUpper(vendor)+"&PID_"+strings.ToUpper(product), nil)
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		return err == nil, err
	}
	if c.System() == MacOS {
		return c.Root() == "" && slices.Contains(usbDevices(), vendor+":"+product), nil
	}
	devices, err := filepath.Glob(filepath.Join(c.Root(), "/sys/bus/usb/devices/*"))
	for _, d := range devices {
		has := func(name string) string {
			text, _ := os.ReadFile(filepath.Join(d, name))
			return strings.TrimSpace(string(text))
		}
		if has("idVendor") == vendor && has("idProduct") == product {
			return true, nil
		}
	}
	return false, err
}
