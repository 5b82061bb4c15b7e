// Package lay creates files, and the disks of simulated computers, for the tests.
package lay

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "modernc.org/sqlite" // the apps' databases

	"movekit/test/fatal"
)

// Out writes files below a folder. A content that starts with "-> " makes a link.
func Out(t testing.TB, root string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(root, filepath.FromSlash(name))
		err := os.MkdirAll(filepath.Dir(path), 0o755)
		if target, isLink := strings.CutPrefix(text, "-> "); isLink && err == nil {
			err = os.Symlink(target, path)
		} else if err == nil {
			err = os.WriteFile(path, []byte(text), 0o644)
		}
		fatal.If(t, err)
	}
}

// Ident is the content of a simulated computer's computer.yaml.
func Ident(system, name, hardware string) string {
	return fmt.Sprintf("system: %s\nname: %s\nhardware-id: %s\n", system, name, hardware)
}

// Disk creates the disk of a simulated computer, and returns its folder.
func Disk(t testing.TB, system string, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	Out(t, root, map[string]string{"computer.yaml": Ident(system, "OLD", "invented-id-1234")})
	Out(t, root, files)
	return root
}

// Database creates or changes a SQLite database.
func Database(t testing.TB, name string, statements ...string) {
	t.Helper()
	os.MkdirAll(filepath.Dir(name), 0o755)
	db, err := sql.Open("sqlite", name)
	fatal.If(t, err)
	defer db.Close()
	for _, s := range statements {
		_, err := db.Exec(s)
		fatal.If(t, err)
	}
}

// OpenTo lets every user of this computer into a folder for temporary files.
func OpenTo(dir string) {
	for up := dir; up != os.TempDir() && up != "/"; up = filepath.Dir(up) {
		os.Chmod(up, 0o755)
	}
}

// Signed creates a certificate that expires at a time, and its key.
func Signed(t testing.TB, until time.Time) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	fatal.If(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tern Quay harbour office"}, NotBefore: until.AddDate(-2, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	fatal.If(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(k)
	fatal.If(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}

// Holds checks that a folder has exactly these files with this content. A link is "-> " and its
// target.
func Holds(t *testing.T, dir string, want map[string]string) {
	t.Helper()
	got := map[string]string{}
	filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, p)
		switch {
		case err != nil || e.IsDir():
		case e.Type()&os.ModeSymlink != 0:
			to, _ := os.Readlink(p)
			got[rel] = "-> " + to
		default:
			text, _ := os.ReadFile(p)
			got[rel] = string(text)
		}
		return nil
	})
	for name, text := range want {
		if got[name] != text {
			t.Errorf("%s is %q, not %q", name, got[name], text)
		}
	}
	for name := range got {
		if _, there := want[name]; !there {
			t.Errorf("%s is there: %q", name, got[name])
		}
	}
}
