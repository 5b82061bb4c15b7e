package holder

import "movekit/internal/core/item"

// Paired and Expired look at the files of a licence, for the tests.
func (h *Held) Paired(all []item.Target) error { return files{person{h}}.paired(all) }

func (h *Held) Expired(all []item.Target) string { return files{person{h}}.expired(all) }
