// Package yamltext parses untrusted YAML with limits on nesting and size, and never panics.
package yamltext

import (
	"bytes"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Limits.
const (
	MaxSize   = 4 << 20 // bytes
	maxDepth  = 24      // nested brackets
	maxColumn = 200     // largest column where a nested value starts
)

// Decode decodes one document into a value.
func Decode(data []byte, into any, options ...yaml.DecodeOption) error {
	return careful(data, func() error { return yaml.NewDecoder(bytes.NewReader(data), options...).Decode(into) })
}

// Parse parses a text into its syntax tree.
func Parse(data []byte) (f *ast.File, err error) {
	err = careful(data, func() error {
		f, err = parser.ParseBytes(data, 0)
		return err
	})
	return f, err
}

// careful runs read if data is within the limits, and recovers from panics.
func careful(data []byte, read func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("this is not valid YAML (%v)", p)
		}
	}()
	if len(data) > MaxSize {
		return fmt.Errorf("it has %d bytes; the limit is %d", len(data), MaxSize)
	}
	open := 0
	for _, t := range lexer.Tokenize(string(data)) {
		switch t.Type {
		case token.MappingStartType, token.SequenceStartType:
			open++
		case token.MappingEndType, token.SequenceEndType:
			open--
		}
		if t.Position != nil && (open > maxDepth || t.Position.Column > maxColumn && t.Type == token.SequenceEntryType || t.Position.IndentNum > maxColumn) {
			return fmt.Errorf("line %d is nested too deeply", t.Position.Line)
		}
	}
	return read()
}
