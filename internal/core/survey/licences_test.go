package survey_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestLicencesHere lists the evidence of each licence on a computer, and expired certificates.
func TestLicencesHere(t *testing.T) {
	good, key := lay.Signed(t, time.Now().Add(48*time.Hour))
	over, _ := lay.Signed(t, time.Now().Add(-48*time.Hour))
	p12, _ := office.Encrypted(t, good, key, "tide")
	c, err := card.Parse("app.yaml", []byte(`card: 1
name: app
title: The App
items:
  - {name: cert, kind: file, path: /srv/cert.pem}
  - {name: old, kind: file, path: /srv/old.pem}
  - {name: sealed, kind: file, path: /srv/c.p12}
  - {name: gone, kind: file, path: /srv/gone, optional: true}
licences:
  - {name: a, method: file, items: [cert, gone]}
  - {name: b, method: file, items: [old]}
  - {name: c, method: file, items: [sealed]}
  - {name: dongle, method: token, usb: '1d6b:0002', deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}
  - {name: key, method: key, serial: {file: /srv/reg.ini, key: key}, code: {file: /srv/reg.ini, key: name}, deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}
  - {name: none, method: account, deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}
`))
	fatal.If(t, err)
	computer, err := machine.Open(lay.Disk(t, "linux", map[string]string{"srv/cert.pem": good, "srv/old.pem": over, "srv/c.p12": p12, "srv/reg.ini": "key=HB-QUAY-7\nname=Tern Quay\n",
		"sys/bus/usb/devices/1-1/idVendor": "1d6b\n", "sys/bus/usb/devices/1-1/idProduct": "0002\n"}))
	fatal.If(t, err)
	apps, err := survey.Licences(t.Context(), &survey.Scanner{Host: run.NewHost(computer), Kinds: kinds.All}, []*card.Card{c})
	fatal.If(t, err)
	for i, want := range []struct{ seen, doubt string }{
		{"the file /srv/cert.pem (the certificate of CN=", ""}, {"the file /srv/old.pem", "expired on "}, {"the file /srv/c.p12 (encrypted;", ""},
		{"the token 1d6b:0002, plugged in", ""}, {"product key ••••AY-7 in ", ""}, {"", ""},
	} {
		l := apps[0].Licences[i]
		if got := strings.Join(l.Seen, " & "); !strings.HasPrefix(got, want.seen) || want.seen == "" && got != "" || strings.Contains(got, "&") || !strings.Contains(strings.Join(l.Warnings, ""), want.doubt) || want.doubt == "" && l.Warnings != nil {
			t.Errorf("%s: %q %q", l.Licence, l.Seen, l.Warnings)
		}
	}
}

// TestLicenceOfAUser reads a serial from profiles: a different serial is another licence, the same
// one is not.
func TestLicenceOfAUser(t *testing.T) {
	c, err := card.Parse("app.yaml", []byte(`card: 1
name: app
title: The App
items: [{name: data, kind: file, path: /srv/data, optional: true}]
licences: [{name: key, method: key, serial: {file: ~/.app.ini, key: key}, deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}]
`))
	fatal.If(t, err)
	computer, err := machine.Open(lay.Disk(t, "linux", map[string]string{"etc/passwd": "anna:x:1000:1000::/home/anna:/bin/sh\nmaren:x:1001:1001::/home/maren:/bin/sh\ntobias:x:1002:1002::/home/tobias:/bin/sh\nzoe:x:1003:1003::/home/zoe:/bin/sh\n",
		"home/anna/x": "", "home/zoe/.app.ini": "key=HB-QUAY-8\n", "home/maren/.app.ini": "key=HB-QUAY-7\n", "home/tobias/.app.ini": "key=HB-QUAY-8\n"}))
	fatal.If(t, err)
	apps, err := survey.Licences(t.Context(), &survey.Scanner{Host: run.NewHost(computer), Kinds: kinds.All}, []*card.Card{c})
	fatal.If(t, err)
	var got []string
	for _, l := range apps[0].Licences {
		got = append(got, l.Licence+" "+l.Card.Name+" "+l.Secrets.Serial+" "+l.Secrets.User+" "+strings.Join(l.Seen, "; "))
	}
	want := []string{"key key HB-QUAY-7 maren product key ••••AY-7 in /home/maren/.app.ini, key, of maren", "key@tobias key@tobias HB-QUAY-8 tobias product key ••••AY-8 in /home/tobias/.app.ini, key, of tobias"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, not %q", got, want)
	}
}
