// Package substrait stands in for github.com/substrait-io/substrait, of which it has the two files of functions that filters of tables use here: comparisons and AND, OR, NOT, and not starts_with. All of them are read
// when the program starts, whatever it is started for: the whole module's sixteen others took each command a fifth of a second.
package substrait

import "embed"

//go:embed extensions/*
var extensions embed.FS

// GetSubstraitExtensionsFS gives the definitions of functions.
func GetSubstraitExtensionsFS() embed.FS { return extensions }
