package card_test

import (
	"fmt"

	"movekit/internal/core/card"
)

func ExampleParse() {
	c, err := card.Parse("hoistbook.yaml", []byte(`
card: 1
name: hoistbook
title: Hoistbook
version: {command: ['%PROGRAMFILES%\Hoistbook\hoist.exe', --version], rule: same-minor}
items:
  - {name: diary, kind: folder, path: '%PROGRAMDATA%\Hoistbook'}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(c.Title, c.Items[0].Path.On("windows"), c.Commands())

	_, err = card.Parse("hoistbook.yaml", []byte("card: 1\nname: Hoist book\n"))
	fmt.Println(err != nil)
	// Output:
	// Hoistbook %PROGRAMDATA%\Hoistbook [[%PROGRAMFILES%\Hoistbook\hoist.exe --version]]
	// true
}
