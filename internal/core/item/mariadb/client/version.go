package client

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"movekit/internal/core/fault"
)

// Version is a server's vendor and version, such as MariaDB 10.11.6.
type Version struct {
	Name string // MariaDB or MySQL
	Num  [3]int
}

// String returns the version as ParseVersion reads it.
func (v Version) String() string {
	return fmt.Sprintf("%s %d.%d.%d", v.Name, v.Num[0], v.Num[1], v.Num[2])
}

// Takes reports whether a server with this version can load a database of an old one: it must have
// the same vendor and at least the same series.
func (v Version) Takes(old Version) bool {
	return v.Name == old.Name && (v.Num[0] > old.Num[0] || v.Num[0] == old.Num[0] && v.Num[1] >= old.Num[1])
}

// ParseVersion parses a server's own version text, or the result of String.
func ParseVersion(text string) Version {
	v := Version{Name: "MySQL"}
	text = strings.TrimPrefix(text, "MySQL ")
	if strings.Contains(strings.ToLower(text), "mariadb") {
		v.Name = "MariaDB"
		text = strings.TrimPrefix(strings.TrimPrefix(text, "MariaDB "), "5.5.5-")
	}
	for i, part := range strings.SplitN(text, ".", 3) {
		digits := strings.IndexFunc(part, func(r rune) bool { return r < '0' || r > '9' })
		if digits < 0 {
			digits = len(part)
		}
		v.Num[i], _ = strconv.Atoi(part[:digits])
	}
	return v
}

// Version returns the server's version, or an error if the server is too old.
func (c *Conn) Version(ctx context.Context) (Version, error) {
	row, err := c.One(ctx, "SELECT version()")
	if err != nil {
		return Version{}, err
	}
	v := ParseVersion(row[0])
	if v.Name == "MySQL" && v.Num[0] < 8 || v.Name == "MariaDB" && (v.Num[0] < 10 || v.Num[0] == 10 && v.Num[1] < 3) {
		return v, fault.New(fault.ServerRefused, "the server of %s is %s; MariaDB 10.3, MySQL 8 or newer is needed", c.Server.Address(), v)
	}
	return v, nil
}
