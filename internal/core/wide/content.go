package wide

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// headSize is the number of bytes of a file that are read to classify it.
const headSize = 4096

// kind is the classification of a file by its content.
type kind struct {
	class Class
	what  string
}

// classify classifies a file by its first bytes (at most headSize), its size and its name. Most
// files have no class.
func classify(head []byte, size int64, name string) (kind, bool) {
	for _, m := range magics {
		if len(head) >= m.at+len(m.bytes) && string(head[m.at:m.at+len(m.bytes)]) == m.bytes {
			return kind{m.class, m.what}, true
		}
	}
	switch {
	case isFirebird(head, size):
		return kind{Database, fmt.Sprintf(FirebirdFile+" (on-disk structure %d)", binary.LittleEndian.Uint16(head[18:])&0x7fff)}, true
	case isDBase(head, size):
		return kind{Database, DBaseTable}, true
	}
	text := head[:min(len(head), 512)]
	for _, m := range texts {
		if bytes.Contains(text, []byte(m.bytes)) {
			return kind{m.class, m.what}, true
		}
	}
	if isPKCS12(head, name) {
		return kind{Key, "key with certificate (PKCS #12)"}, true
	}
	return kind{}, false
}

type magic struct {
	at    int
	bytes string
	class Class
	what  string
}

// magics are the signatures at the start of files.
var magics = []magic{
	{0, "SQLite format 3\x00", Database, SQLiteDatabase},
	{4, "Standard Jet DB\x00", Database, "desktop database (Jet)"},
	{4, "Standard ACE DB\x00", Database, "desktop database (ACE)"},
	{4, "\xef\xcd\xab\x89", Database, "desktop database (ESE)"},
	{0, "PGDMP", Dump, "PostgreSQL archive"},
	{0, "!BDN", Mail, "mail store (PST)"},
	{12, "\x61\x15\x06\x00", Database, "Berkeley DB hash table"},
	{12, "\x62\x31\x05\x00", Database, "Berkeley DB tree"},
	{0, "\x00\x06\x15\x61", Database, "Berkeley DB hash table"},
	{0, "-- H2 0.5/B --", Database, "H2 database"},
	{0, "H:2,block:", Database, "H2 database"},
	{0, "\x01\x0f\x00\x00\x00\x00\x00\x00", Database, SQLServerFile},
	{0, "\xfe\xfe\x07\x01", Database, "MyISAM table index"},
	{0, "\xfe\xed\xfe\xed", Key, "key store (JKS)"},
	{0, "TAPE\x00\x00", Dump, "SQL Server backup"},
}

// texts are the signatures within the first 512 bytes of text files.
var texts = []magic{
	{0, "-- PostgreSQL database dump", Dump, "PostgreSQL dump"},
	{0, "-- PostgreSQL database cluster dump", Dump, "PostgreSQL dump"},
	{0, "-- MySQL dump", Dump, "MySQL dump"},
	{0, "-- MariaDB dump", Dump, "MariaDB dump"},
	{0, "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;", Dump, "SQLite dump"},
	{0, "PRIVATE KEY-----", Key, "private key (PEM)"},
	{0, "-----BEGIN CERTIFICATE-----", Certificate, "certificate (PEM), without its key"},
}

// SQLServerFile is the description of a data file of SQL Server.
const SQLServerFile = "SQL Server data file"

// FirebirdFile is the description of a Firebird database, before its version.
const FirebirdFile = "Firebird database"

// isFirebird reports whether a file starts with a Firebird header page (Firebird's ods.h): its
// type, a page size and a version with the Firebird flag.
func isFirebird(h []byte, size int64) bool {
	if len(h) < 20 || h[0] != 1 || h[1] != 0 {
		return false
	}
	page := int64(binary.LittleEndian.Uint16(h[16:]))
	if page == 0 {
		page = 65536
	}
	ods := binary.LittleEndian.Uint16(h[18:])
	return page >= 1024 && page&(page-1) == 0 && ods&0x8000 != 0 && ods&0x7fff >= 10 && ods&0x7fff < 20 && size%page == 0
}

// isDBase reports whether a file starts with a dBase header (the published layout of dBase III and
// its successors): a version, a date, field descriptors, and a fitting number of records.
func isDBase(h []byte, size int64) bool {
	if len(h) < 64 || strings.IndexByte("\x02\x03\x04\x05\x30\x31\x32\x43\x63\x83\x8b\xcb\xf5\xfb", h[0]) < 0 {
		return false
	}
	records := int64(binary.LittleEndian.Uint32(h[4:]))
	header := int64(binary.LittleEndian.Uint16(h[8:]))
	length := int64(binary.LittleEndian.Uint16(h[10:]))
	if h[2] < 1 || h[2] > 12 || h[3] < 1 || h[3] > 31 || header < 65 || length < 2 {
		return false
	}
	whole := header + records*length
	return header%32 <= 8 && (size == whole || size == whole+1)
}

// isPKCS12 reports whether a file is a PFX (RFC 7292): a DER sequence that starts with version 3.
// The name must indicate that too.
func isPKCS12(h []byte, name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return (ext == ".pfx" || ext == ".p12") && len(h) > 7 && h[0] == 0x30 && bytes.Contains(h[:8], []byte{2, 1, 3})
}

// lockOf returns a note if a database's lock or journal file exists.
func lockOf(path, what string) string {
	stem := strings.TrimSuffix(path, filepath.Ext(path))
	locks := map[string]string{}
	switch {
	case strings.Contains(what, "(Jet)"):
		locks[stem+".ldb"] = "its lock file"
	case strings.Contains(what, "(ACE)"):
		locks[stem+".laccdb"] = "its lock file"
	case what == SQLiteDatabase:
		locks[path+"-wal"], locks[path+"-journal"] = "its log (-wal)", "its journal"
	}
	for name, word := range locks {
		if _, err := os.Lstat(name); err == nil {
			return word + " exists: the database is open, or was not closed properly"
		}
	}
	return ""
}

// set returns a set of words.
func set(words string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(words) {
		out[w] = true
	}
	return out
}

var (
	// likely lists suffixes of files that are opened even if they are small.
	likely = set(".db .db3 .sqlite .sqlite3 .s3db .sdb .fdb .gdb .ib .dbf .mdb .accdb .mde .accde .edb .sdf .mdf .bak .dump .dmp .sql .backup .pst .ost .pfx .p12 .pem .key .crt .cer .jks .dat")
	// never lists suffixes of files that have no relevant data. They are not opened.
	never = set(`.txt .log .md .html .htm .xhtml .css .js .mjs .ts .map .json .xml .xsd .xsl .yaml .yml .toml .ini .cfg .conf .inf .csv .tsv .rtf
		.jpg .jpeg .png .gif .bmp .tif .tiff .webp .svg .ico .heic .cur .psd .mp3 .mp4 .avi .mkv .mov .wav .flac .ogg .webm .m4a
		.pdf .doc .docx .xls .xlsx .ppt .pptx .odt .ods .odp .zip .gz .xz .bz2 .zst .7z .rar .tar .tgz .cab .jar .war .whl .deb .rpm .iso .vhd .vhdx .vmdk .vdi .img
		.exe .dll .sys .ocx .msi .msp .mui .com .scr .cpl .drv .so .a .o .lib .pdb .pyc .py .pl .rb .php .sh .bat .cmd .ps1 .vbs .c .h .cpp .hpp .cs .java .class .go .rs .lua
		.ttf .otf .woff .woff2 .eot .fon .mo .po .pak .bin .wim .cat .manifest .lnk .url .etl .evtx .pf .nls .chm .hlp .prefetch .lock .pid .sock`)
)

// licenceEndings lists suffixes of files called licence that are not just a text to read.
var licenceEndings = set(".ini .dat .xml .key .json .bin .jws .cfg .conf")

// candidate reports whether to open a file.
func candidate(name string, size int64) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return likely[ext] && size > 64 || !never[ext] && size >= 2048
}

// licenceName reports whether a file's name indicates a licence.
func licenceName(name string, size int64) bool {
	n := strings.ToLower(name)
	ext := filepath.Ext(n)
	if size == 0 || size > 1<<20 {
		return false
	}
	if ext == ".lic" || ext == ".licence" || ext == ".license" {
		return true
	}
	stem := strings.TrimSuffix(n, ext)
	return (stem == "licence" || stem == "license" || stem == "activation") && licenceEndings[ext]
}

// SQLiteDatabase is the description of a SQLite database.
const SQLiteDatabase = "SQLite database"

// DBaseTable is the description of a dBase or FoxPro table.
const DBaseTable = "dBase table"

// Look classifies a file by its content, or by its name if that indicates a licence. The class is
// "" for any other file.
func Look(name string) (Class, string) {
	info, err := os.Stat(name)
	if err != nil || !info.Mode().IsRegular() {
		return "", "cannot be read"
	}
	if licenceName(filepath.Base(name), info.Size()) {
		return Licence, "licence file, by its name"
	}
	if candidate(name, info.Size()) {
		var head [headSize]byte
		if n, err := readHead(name, head[:]); err == nil {
			if k, ok := classify(head[:n], info.Size(), filepath.Base(name)); ok {
				return k.class, k.what
			}
		}
	}
	return "", fmt.Sprintf("a file of %d bytes", info.Size())
}

// Needless reports whether a folder's name indicates that its content need not be kept.
func Needless(name string) bool {
	lower := strings.ToLower(name)
	return passNames[lower] || spacedPass[lower]
}
