// Package dictionary holds the definitions and checks that ship with the service, as files of the
// estate format.
package dictionary

import (
	"embed"
	"io/fs"
	"sync"

	"zenithridge.example/zridge/formats/files"
)

//go:embed areas/*.yaml
var areas embed.FS

//go:embed kits/*.yaml
var kits embed.FS

// Kits gives the kits that ship, read once.
var Kits = sync.OnceValue(func() []files.Kit {
	sub, err := fs.Sub(kits, "kits")
	if err != nil {
		panic(err)
	}
	list, err := files.ReadKits(sub, Shipped())
	if err != nil {
		panic("kits: " + err.Error())
	}
	return list
})

// Areas lists the areas of the shipped dictionary, in the order in which they are shown.
var Areas = []string{
	"disk",
	"disk startup",
	"disk recovery",
	"firmware",
	"remote hardware management",
	"sign-in",
	"accounts",
	"screen and presence",
	"browser",
	"applications",
	"devices and media",
	"network",
	"trust",
	"updates",
	"power and backup",
	"system",
}

// Shipped gives the dictionary, read once. The files are part of the program and tested; a fault in
// them panics.
var Shipped = sync.OnceValue(func() files.Dictionary {
	sub, err := fs.Sub(areas, "areas")
	if err != nil {
		panic(err)
	}
	d, err := files.ReadDictionary(sub)
	if err != nil {
		panic("dictionary: " + err.Error())
	}
	return d
})
