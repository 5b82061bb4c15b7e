package dbprint_test

import (
	"fmt"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
)

func ExampleCompare() {
	print := func(rows ...string) *dbprint.Fingerprint {
		var sum dbprint.Multiset
		for _, r := range rows {
			sum.Add(digest.Of([]byte(r)))
		}
		return &dbprint.Fingerprint{Tables: []dbprint.Table{{Name: "boat", Rows: int64(len(rows)), Digest: sum.Digest()}}}
	}
	old := print("Grey Wagtail", "Salt Thrift")
	fmt.Println(len(dbprint.Compare(old, print("Salt Thrift", "Grey Wagtail"), nil))) // the order does not matter
	for _, d := range dbprint.Compare(old, print("Salt Thrift", "Grey Wagtails"), nil) {
		fmt.Println(d.Table, d.What)
	}
	// Output:
	// 0
	// boat has the same number of rows, but different ones
}
