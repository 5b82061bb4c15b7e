package filemeta

import "testing"

// TestAccessLists parses and writes Windows security descriptors.
func TestAccessLists(t *testing.T) {
	const maren = "S-1-5-21-1-2-3-1001"
	users := map[string]string{maren: "maren"}
	for name, c := range map[string]struct{ sddl, kept string }{
		"all inherited":  {"O:BAG:SYD:AI(A;OICIID;FA;;;SY)(A;ID;FA;;;" + maren + ")", ""},
		"one of its own": {"D:AI(A;;0x1200a9;;;" + maren + ")(A;OICIID;FA;;;SY)", "D:(A;;0x1200a9;;;{maren})"},
		"protected":      {"O:" + maren + "D:PAI(A;OICI;FA;;;SY)(A;OICI;FA;;;" + maren + ")S:AI(AU;SA;FA;;;WD)", "D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;{maren})"},
		"a stranger":     {"D:(A;;FA;;;S-1-5-21-9-9-9-500)", "D:(A;;FA;;;S-1-5-21-9-9-9-500)"},
		"empty":          {"D:P", "D:P"},
		"none":           {"O:BAG:SY", ""},
		"nonsense":       {"D:((;;", ""},
	} {
		if got := explicitACL(c.sddl, users); got != c.kept {
			t.Errorf("%s: %q, want %q", name, got, c.kept)
		}
	}
	here := func(user string) (string, bool) { return "S-1-5-21-7-7-7-1005", user == "maren" }
	for acl, want := range map[string]string{
		"D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;{maren})": "D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;S-1-5-21-7-7-7-1005)",
		"D:(A;;FA;;;BA)": "D:(A;;FA;;;BA)", "D:P": "D:P",
		"D:(A;;FA;;;{tobias})": "", "D:(A;;FA;;;S-1-5-21-9-9-9-500)": "", "D:(A;;FA;;;SY)O:BA": "", "O:BA": "", "": "", "D:AI(A;;FA;;;SY)": "", "D:(A;;FA": "",
	} {
		got, err := localACL(acl, here)
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%q here: %q, %v", acl, got, err)
		}
	}
}

// TestCloudOnly knows the attributes of files whose content is elsewhere.
func TestCloudOnly(t *testing.T) {
	for attr, want := range map[uint32]bool{0x20: false, 0x1020: true, 0x400020: true, 0x40000: true, 0x7: false, 0x2000: false} {
		if cloudOnly(attr) != want {
			t.Errorf("%#x: %v", attr, !want)
		}
	}
}
