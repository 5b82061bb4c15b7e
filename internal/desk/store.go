package desk

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the desk's storage

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
)

// Store keeps the desk's licences, its signing key and the result of every request in one SQLite
// file.
type Store struct {
	name string
	open sync.RWMutex // locked for writing while the file is reopened
	db   *sql.DB
	key  ed25519.PrivateKey
}

const tables = `
CREATE TABLE IF NOT EXISTS signing (id INTEGER PRIMARY KEY CHECK (id = 1), seed BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS licence (id TEXT PRIMARY KEY, document TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS outcome (
  key TEXT PRIMARY KEY, request TEXT NOT NULL, status INTEGER NOT NULL, document TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS setting (name TEXT PRIMARY KEY, value TEXT NOT NULL);`

// OpenStore opens the desk's file. If it does not exist, it creates the file with a new signing
// key.
func OpenStore(name string) (*Store, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the desk's file")
	}
	s := &Store{name: name}
	if err := s.connect(); err != nil {
		return nil, fault.Wrap(fault.BadDatabase, err, "cannot open the desk's file %s", name)
	}
	return s, nil
}

func (s *Store) connect() error {
	db, err := sql.Open("sqlite", s.name+"?_pragma=journal_mode(wal)&_pragma=synchronous(2)&_pragma=busy_timeout(5000)&_txlock=immediate")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	s.db = db
	if err := s.prepare(); err != nil {
		db.Close()
		return err
	}
	return nil
}

// again closes and reopens the desk's file, as a restart does.
func (s *Store) again() error {
	s.open.Lock()
	defer s.open.Unlock()
	if err := s.db.Close(); err != nil {
		return err
	}
	return s.connect()
}

func (s *Store) prepare() error {
	if _, err := s.db.Exec(tables); err != nil {
		return err
	}
	fresh := make([]byte, ed25519.SeedSize)
	rand.Read(fresh)
	if _, err := s.db.Exec("INSERT OR IGNORE INTO signing VALUES (1, ?)", fresh); err != nil {
		return err
	}
	var seed []byte
	if err := s.db.QueryRow("SELECT seed FROM signing").Scan(&seed); err != nil {
		return err
	}
	if len(seed) != ed25519.SeedSize {
		return errors.New("the signing key is damaged")
	}
	s.key = ed25519.NewKeyFromSeed(seed)
	return nil
}

// Close closes the desk's file.
func (s *Store) Close() error { return s.db.Close() }

// PublicKey returns the key that cards pin, in base64url.
func (s *Store) PublicKey() string {
	return base64.RawURLEncoding.EncodeToString(s.key.Public().(ed25519.PublicKey))
}

// Add adds licences. If a serial exists already, it returns an error and adds none.
func (s *Store) Add(ctx context.Context, list []Licence) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		for _, l := range list {
			if wrong := l.check(); wrong != "" {
				return fault.New(fault.Usage, "%s", wrong)
			}
			document, err := json.Marshal(l)
			if err != nil {
				return err
			}
			res, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO licence VALUES (?, ?)", licence.LicenceID(l.Serial), document)
			if err != nil {
				return err
			}
			if n, _ := res.RowsAffected(); n == 0 {
				return fault.New(fault.Usage, "the desk already has the licence %s", licence.Mask(l.Serial))
			}
		}
		return nil
	})
}

// List returns all licences.
func (s *Store) List(ctx context.Context) ([]Licence, error) {
	s.open.RLock()
	defer s.open.RUnlock()
	return documents(ctx, s.db, "SELECT document FROM licence ORDER BY json_extract(document, '$.product'), id")
}

type querier interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
}

func documents(ctx context.Context, from querier, query string, args ...any) ([]Licence, error) {
	rows, err := from.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Licence
	for rows.Next() {
		var document string
		var l Licence
		if err := rows.Scan(&document); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(document), &l); err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

func (s *Store) change(ctx context.Context, do func(*sql.Tx) error) error {
	s.open.RLock()
	defer s.open.RUnlock()
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Handle carries out one request. If the idempotency key was used before, it returns the first
// result and does nothing.
func (s *Store) Handle(ctx context.Context, action licence.Action, r licence.Request, key string) (*licence.Answer, *licence.Problem, error) {
	return s.handle(ctx, action, r, key, func(tx *sql.Tx) (*Licence, error) { return find(ctx, tx, action, r, key) })
}

// handle carries out a request for the licence that found returns, or nil if the request is not
// authorised.
func (s *Store) handle(ctx context.Context, action licence.Action, r licence.Request, key string, found func(*sql.Tx) (*Licence, error)) (answer *licence.Answer, refusal *licence.Problem, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		l, err := found(tx)
		if err != nil {
			return err
		}
		if l == nil {
			refusal = problem(http.StatusForbidden, licence.ProblemUnknown, "No licence has this serial, code and product", "")
			return nil
		}
		now, err := now(ctx, tx)
		if err != nil {
			return err
		}
		if action == licence.Status {
			answer = l.answer(action, r, now)
			answer.Issued = now.Unix()
			return nil
		}
		known, err := s.earlier(ctx, tx, action, r, key, &refusal)
		if err != nil || refusal != nil {
			return err
		}
		if known != nil { // the result of that request, with the current state
			answer = l.answer(action, r, now)
			answer.Used, answer.Disabled, answer.Issued = known.Used, known.Disabled, now.Unix()
			return nil
		}
		spent, disabled, p := l.Apply(action, r, now)
		if refusal = p; p != nil {
			return nil // not stored: the same request may succeed later
		}
		if err := save(ctx, tx, l); err != nil {
			return err
		}
		answer = l.answer(action, r, now)
		answer.Used, answer.Disabled, answer.Issued = spent, disabled, now.Unix()
		document, err := json.Marshal(answer)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO outcome VALUES (?, ?, 200, ?, ?)", key, essence(action, r), document, now.UTC().Format(time.RFC3339))
		return err
	})
	return answer, refusal, err
}

// Telephone carries out a request that is read out by a caller, and returns the answer to read
// back. A repeated request gets the same answer.
func (s *Store) Telephone(ctx context.Context, text string) (string, *licence.Problem, error) {
	spoken, err := licence.ParsePhoneRequest(text)
	if err != nil {
		return "", problem(http.StatusUnprocessableEntity, licence.ProblemMistyped, "The request is mistyped", err.Error()), nil
	}
	r := licence.Request{Computer: spoken.Computer, Nonce: spoken.Key()}
	if spoken.Major > 0 {
		r.Version = strconv.Itoa(spoken.Major)
	}
	var l *Licence
	a, p, err := s.handle(ctx, spoken.Action, r, spoken.Key(), func(tx *sql.Tx) (*Licence, error) {
		all, err := documents(ctx, tx, "SELECT document FROM licence WHERE id >= ? AND id < ?", spoken.Licence, spoken.Licence+"g")
		for i := range all {
			if spoken.VerifiedBy(all[i].Code) {
				l = &all[i]
			}
		}
		return l, err
	})
	if err != nil || p != nil {
		return "", p, err
	}
	return spoken.Answer(l.Code, a), nil, nil
}

// earlier returns the result of an earlier request with this key, or nil.
func (s *Store) earlier(ctx context.Context, tx *sql.Tx, action licence.Action, r licence.Request, key string, refusal **licence.Problem) (*licence.Answer, error) {
	var request, document string
	err := tx.QueryRowContext(ctx, "SELECT request, document FROM outcome WHERE key = ?", key).Scan(&request, &document)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if request != essence(action, r) {
		*refusal = problem(http.StatusUnprocessableEntity, licence.ProblemKeyReused, "The idempotency key was used for another request", "")
		return nil, nil
	}
	a := &licence.Answer{}
	return a, json.Unmarshal([]byte(document), a)
}

// essence returns the fields that must be equal in two requests with the same key.
func essence(action licence.Action, r licence.Request) string {
	r.Licence, r.Nonce, r.Serial, r.Code, r.Proof = r.ID(), "", "", "", ""
	data, _ := json.Marshal(r)
	return digest.Of(append([]byte(action+"\x00"), data...)).String()
}

// find returns the licence of a request, or nil. It does the same work for an unknown serial and
// for a wrong code.
func find(ctx context.Context, tx *sql.Tx, action licence.Action, r licence.Request, key string) (*Licence, error) {
	var document string
	err := tx.QueryRowContext(ctx, "SELECT document FROM licence WHERE id = ?", r.ID()).Scan(&document)
	if errors.Is(err, sql.ErrNoRows) {
		document = "{}"
	} else if err != nil {
		return nil, err
	}
	var l Licence
	if err := json.Unmarshal([]byte(document), &l); err != nil {
		return nil, err
	}
	if r.Proof != "" {
		r.Code = "" // it was verified, or is unknown
		if subtle.ConstantTimeCompare([]byte(r.Prove(l.Code, action, key)), []byte(r.Proof)) == 1 {
			r.Code = l.Code
		}
	}
	want, got := digest.Of([]byte(l.Code+"\x00"+l.Product)), digest.Of([]byte(r.Code+"\x00"+r.Product))
	if subtle.ConstantTimeCompare(want[:], got[:]) != 1 || l.Serial == "" {
		return nil, nil
	}
	return &l, nil
}

func save(ctx context.Context, tx *sql.Tx, l *Licence) error {
	document, err := json.Marshal(l)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "UPDATE licence SET document = ? WHERE id = ?", document, licence.LicenceID(l.Serial))
	return err
}
