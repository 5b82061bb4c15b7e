// Package demo is the complete example: the front desk of the invented Tern Quay harbour office
// gets a new computer.
package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	crand "crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	_ "embed" // the hives
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	_ "modernc.org/sqlite" // the bookings

	"movekit/internal/core/machine"
)

// The computers of the example.
var (
	oldComputer = machine.Identity{Name: "QUAY-DESK-1", System: machine.Windows, HardwareID: "4c4c4544-0051-3510-8052-b7c04f4b4d31"}
	newComputer = machine.Identity{Name: "QUAY-DESK-2", System: machine.Windows, HardwareID: "9a1f7be2-6d03-4e7c-9e55-0c8f21d7aa02"}
)

// The licence of the example; invented, as everything here.
const (
	serial   = "TW8-QUAY-7731-TERN"
	code     = "ebb-41-flow-77-mud"
	hoistKey = "HB3-4471-SLIP-09"
)

// users work at the front desk. On the new computer, maren has another name.
var (
	users    = []string{"maren", "tobias"}
	newUsers = []string{"maren.holm", "tobias"}
)

// Chartroom's registry keys on the old computer, and on the new one after they were imported by
// hand: hive files made with Debian's hivexregedit.
var (
	//go:embed old.hive
	oldHive string
	//go:embed new.hive
	newHive string
)

// file is one file of a simulated computer, by its path below the root.
type file struct {
	path, text string
}

// day is the modification time of the example's files.
var day = time.Date(2026, 11, 20, 16, 45, 0, 0, time.UTC)

func write(root string, f file, at time.Time) error {
	name := filepath.Join(root, filepath.FromSlash(f.path))
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(name, []byte(f.text), 0o644); err != nil {
		return err
	}
	return os.Chtimes(name, at, at)
}

func writeAll(root string, id machine.Identity, files []file) error {
	ident, err := yaml.Marshal(id)
	if err != nil {
		return err
	}
	files = append(files, file{machine.IdentityFile, "# This folder represents the disk of a computer.\n" + string(ident)})
	for i, f := range files {
		if err := write(root, f, day.Add(-time.Duration(i)*37*time.Minute)); err != nil {
			return err
		}
	}
	return nil
}

// programs returns the installed apps, which both computers have.
func programs(tidewright, hoistbook, chartroom string) []file {
	return []file{
		{"Program Files/Tidewright/version.txt", "Tidewright\r\nVersion: " + tidewright + "\r\n"},
		{"Program Files/Hoistbook/about.txt", "Hoistbook " + hoistbook + "\r\nThe lift diary of your yard\r\n"},
		{"Program Files/Chartroom/chartroom.ini", "[app]\r\nversion=" + chartroom + "\r\n[mailbox]\r\naddress=https://notices.coastguard.example/tern-quay\r\n"},
		{"Windows/Fonts/notice.ttf", "an invented font"},
		{"Windows/System32/config/SOFTWARE.LOG1", ""},
		{"Windows/win.ini", "; for 16-bit app support\r\n"},
		{"Users/Public/desktop.ini", "[.ShellClassInfo]\r\n"},
	}
}

func makeOld(root string) error {
	r := rand.New(rand.NewPCG(1873, 7))
	files := programs("8.2.1", "3.4.0", "5.3")
	for i, u := range users {
		home := "Users/" + u + "/AppData/Roaming/Tidewright/"
		files = append(files,
			file{home + "settings.ini", fmt.Sprintf("[window]\r\nwidth=%d\r\nlanguage=en\r\n[paths]\r\nexport=C:\\Users\\%s\\Documents\\Berths\r\nlast=\"C:/Users/%s/Documents/Berths/week 47.csv\"\r\n", 1280+i*320, u, u)},
			file{home + ".recent", "bookings.db\r\n"},
			file{home + "layouts/front desk.layout", "columns: boat, berth, from, to, paid\r\n"},
			file{home + "layouts/Übersicht – Krabbenkai.layout", "columns: berth, boat\r\n"},
			file{home + "cache/tile-00-17.bin", string(noise(r, 4096))},
		)
	}
	files = append(files,
		file{"ProgramData/Tidewright/licence.ini", "[licence]\r\nName = Tern Quay harbour office\r\nSerial = " + serial + "\r\nCode = " + code + "\r\n"},
		file{"ProgramData/Hoistbook/registration.ini", "[registration]\r\nname=Tern Quay harbour office\r\nkey=" + hoistKey + "\r\n"},
		file{"ProgramData/Hoistbook/letterhead.txt", "Tern Quay harbour office\r\nThe old boat shed, Tern Quay\r\n"},
		file{"ProgramData/Hoistbook/Diary/2023/empty.rec", ""},
		file{hivePath, oldHive},
	)
	certificate, key, err := signer()
	if err != nil {
		return err
	}
	files = append(files,
		file{"ProgramData/Chartroom/office.pem", certificate},
		file{"ProgramData/Chartroom/keys/office.key", key},
		file{"ProgramData/Chartroom/outbox/README.txt", "Notices wait here until they are sent.\r\n"},
		file{"Windows/System32/Tasks/Rota for the watch", "<?xml version=\"1.0\"?>\r\n<Task><Actions><Exec><Command>\"C:\\Program Files\\WatchRota\\rota.exe\" /print</Command></Exec></Actions></Task>\r\n"},
		file{"Windows/System32/drivers/etc/hosts", "127.0.0.1 localhost\r\n192.0.2.7 QUAY-SRV\r\n"},
		file{"ProgramData/WatchRota/rota.log", strings.Repeat("opened\r\n", 200)},
		file{"ProgramData/WatchRota/rota.ini", "[rota]\r\nfile=C:\\ProgramData\\WatchRota\\rota.db\r\nbackup=\\\\QUAY-SRV\\backup\\rota\r\n"},
	)
	if err := writeAll(root, oldComputer, files); err != nil {
		return err
	}
	if err := sqliteFile(filepath.Join(root, "ProgramData", "WatchRota", "rota.db"), rotaSQL(r)); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(root, "ProgramData/Hoistbook/Diary/2027"), 0o755); err != nil {
		return err
	}
	if err := diary(root, r); err != nil {
		return err
	}
	if err := makeNeighbours(root); err != nil {
		return err
	}
	return bookings(filepath.Join(root, "ProgramData", "Tidewright"), r, 212, 38400)
}

// lifts is the number of records in the boat-lift diary, and hulls the number of pictures per year.
const (
	lifts = 4800
	hulls = 80
)

// diary writes the boat-lift diary: one record per lift, and pictures of hulls.
func diary(root string, r *rand.Rand) error {
	content := rand.NewChaCha8([32]byte{'h', 'u', 'l', 'l'})
	for n := range lifts {
		at := time.Date(2023, 3, 1, 8, 0, 0, 0, time.UTC).Add(time.Duration(n) * 400 * time.Minute)
		dir := fmt.Sprintf("ProgramData/Hoistbook/Diary/%d/", at.Year())
		err := write(root, file{fmt.Sprintf("%s%s-%04d.rec", dir, at.Format("01-02"), n+1), fmt.Sprintf("lift: %d\r\nboat: %s\r\nlength: %.1f m\r\nweight: %d kg\r\nsling: %d\r\nnote: %s\r\n",
			n+1, boat(r), 6+r.Float64()*10, 900+r.IntN(14000), 1+r.IntN(4), notes[r.IntN(len(notes))])}, at)
		if err == nil && n%(lifts/hulls/4) == 0 {
			picture := make([]byte, 90_000+r.IntN(120_000))
			content.Read(picture) //nolint:errcheck // it cannot fail
			err = write(root, file{fmt.Sprintf("%shull %04d.jpg", dir, n+1), string(picture)}, at)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// hivePath is the hive file of HKLM\SOFTWARE.
const hivePath = "Windows/System32/config/SOFTWARE"

// makeNew creates the new computer: the apps are installed, and Tidewright was started once, which
// created an empty profile and an empty database.
func makeNew(root string) error {
	files := programs("8.2.4", "3.4.2", "5_4")
	for _, u := range append([]string{"it-setup"}, newUsers...) {
		files = append(files, file{"Users/" + u + "/ntuser.ini", "\r\n"})
	}
	if err := writeAll(root, newComputer, files); err != nil {
		return err
	}
	// Somebody opened Tidewright on the day after it was installed.
	if err := write(root, file{"Users/maren.holm/AppData/Roaming/Tidewright/settings.ini", "[window]\r\nwidth=1024\r\nlanguage=en\r\n"}, day.AddDate(0, 0, 1)); err != nil {
		return err
	}
	return bookings(filepath.Join(root, "ProgramData", "Tidewright"), rand.New(rand.NewPCG(1, 1)), 0, 0)
}

var schema = []string{
	`PRAGMA journal_mode=WAL`, `PRAGMA wal_autocheckpoint=0`,
	`CREATE TABLE boat (id INTEGER PRIMARY KEY, name TEXT NOT NULL, owner TEXT NOT NULL, length_m REAL, registered DATE)`,
	`CREATE TABLE berth (pier TEXT NOT NULL, place INTEGER NOT NULL, width_m REAL, PRIMARY KEY (pier, place)) WITHOUT ROWID`,
	`CREATE TABLE booking (id INTEGER PRIMARY KEY AUTOINCREMENT, boat INTEGER NOT NULL REFERENCES boat(id), pier TEXT, place INTEGER,
	   arrives DATE NOT NULL, leaves DATE NOT NULL, paid BOOLEAN NOT NULL DEFAULT 0, price_cents INTEGER)`,
	`CREATE INDEX booking_arrives ON booking(arrives)`,
	`CREATE VIEW unpaid AS SELECT * FROM booking WHERE paid = 0`,
	`PRAGMA user_version=82`,
}

// bookings writes Tidewright's database as it is if the app was never closed: the newest rows are
// still in the write-ahead log.
func bookings(dir string, r *rand.Rand, boats, count int) error {
	temp, err := os.MkdirTemp("", "movekit-demo-")
	if err != nil {
		return err
	}
	defer func() {
		for _, e := range []string{"", "-wal", "-shm"} {
			os.Remove(filepath.Join(temp, "b.db"+e))
		}
		os.Remove(temp)
	}()
	db, err := openDB(filepath.Join(temp, "b.db"))
	if err != nil {
		return err
	}
	defer db.Close()
	run := func(query string, args ...any) {
		if err == nil {
			_, err = db.Exec(query, args...)
		}
	}
	for _, s := range schema {
		run(s)
	}
	run("BEGIN")
	for i := range boats {
		run("INSERT INTO boat VALUES (?, ?, ?, ?, ?)", i+1, boat(r), people[r.IntN(len(people))], float64(60+r.IntN(100))/10, day.AddDate(0, 0, -r.IntN(4000)).Format("2006-01-02"))
	}
	for p := range 96 {
		if boats > 0 {
			run("INSERT INTO berth VALUES (?, ?, ?)", string(rune('A'+p/24)), p%24+1, 2.5+float64(p%6)*0.5)
		}
	}
	for i := range count {
		from := day.AddDate(0, 0, -r.IntN(1500))
		run("INSERT INTO booking(boat, pier, place, arrives, leaves, paid, price_cents) VALUES (?, ?, ?, ?, ?, ?, ?)",
			1+r.IntN(boats), string(rune('A'+r.IntN(4))), 1+r.IntN(24), from.Format("2006-01-02"), from.AddDate(0, 0, 1+r.IntN(20)).Format("2006-01-02"), r.IntN(9) > 0, 900+r.IntN(30000))
		if i == count*9/10 {
			run("COMMIT")
			run("PRAGMA wal_checkpoint(FULL)")
			run("BEGIN")
		}
	}
	run("COMMIT")
	if err != nil {
		return err
	}
	for _, e := range []string{"", "-wal"} {
		if err := copyFile(filepath.Join(temp, "b.db"+e), filepath.Join(dir, "bookings.db"+e)); err != nil {
			return err
		}
	}
	return nil
}

// rotaSQL returns the watch rota, which has no card.
func rotaSQL(r *rand.Rand) string {
	var b strings.Builder
	b.WriteString("CREATE TABLE watch (day DATE PRIMARY KEY, who TEXT NOT NULL, high_water TEXT);\n")
	for i := range 700 {
		fmt.Fprintf(&b, "INSERT INTO watch VALUES ('%s', '%s', '%02d:%02d');\n", day.AddDate(0, 0, i-600).Format("2006-01-02"), people[r.IntN(len(people))], r.IntN(12), r.IntN(60))
	}
	return b.String()
}

// sqliteFile creates a database from statements.
func sqliteFile(name, sql string) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	db, err := openDB(name)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec("BEGIN;\n" + sql + "COMMIT")
	return err
}

func openDB(name string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", name)
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// signer returns the office's certificate and its key.
func signer() (certificate, key string, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
	if err != nil {
		return "", "", err
	}
	about := &x509.Certificate{
		SerialNumber: big.NewInt(7731), Subject: pkix.Name{CommonName: "Tern Quay harbour office", Organization: []string{"Tern Quay"}},
		NotBefore: day.AddDate(-1, 0, 0), NotAfter: day.AddDate(2, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature,
	}
	der, err := x509.CreateCertificate(crand.Reader, about, about, private.Public(), private)
	if err != nil {
		return "", "", err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return "", "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})), nil
}

func copyFile(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	r, err := os.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	w, err := os.Create(to)
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, r); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}

func noise(r *rand.Rand, n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}

var (
	first  = []string{"Grey", "Little", "Merry", "Salt", "Quiet", "Amber", "Low", "Far", "Windward", "Morning"}
	second = []string{"Wagtail", "Curlew", "Lantern", "Plover", "Kittiwake", "Samphire", "Anchor", "Sandpiper", "Gannet", "Thrift"}
	people = []string{"A. Kerrow", "L. Tidmarsh", "J. Ovesen", "P. Quillfeather", "M. Sandvoll", "R. Eelgrass", "H. Bramcote", "S. Nettlebed"}
	notes  = []string{"hull washed", "propeller bent, owner told", "stored on cradle 4", "antifouling by owner", "strops padded", "back in the water the same day"}
)

func boat(r *rand.Rand) string {
	return first[r.IntN(len(first))] + " " + second[r.IntN(len(second))]
}
