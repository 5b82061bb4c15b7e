package pathmap_test

import (
	"fmt"

	"movekit/internal/core/pathmap"
)

func ExampleMap_File() {
	paths := pathmap.New("windows", []pathmap.Pair{{Old: `C:\Users\maren`, New: `C:\Users\maren.holm`}})
	settings := []byte("export=C:\\Users\\maren\\Berths\nurl=file:///C:/Users/maren/a.tide\n")

	edits, _ := paths.File(settings)
	now := pathmap.Apply(settings, edits)
	fmt.Print(string(now))
	was, ok := pathmap.Back(now, edits)
	fmt.Println(string(was) == string(settings), ok)
	// Output:
	// export=C:\Users\maren.holm\Berths
	// url=file:///C:/Users/maren.holm/a.tide
	// true true
}
