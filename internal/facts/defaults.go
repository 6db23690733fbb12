package facts

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"

	"vessik/internal/core/site"
	"vessik/internal/core/yamltext"
	"vessik/internal/ownfile"
)

// DefaultsFile is where what is set once stands; people may write it by hand.
func (f *Facts) DefaultsFile() string { return f.Machine.Home.Path("vessik.yaml") }

// Defaults reads what is set once. A file that cannot be read counts as empty, and is told by DefaultsPage.
func (f *Facts) Defaults() site.Defaults {
	d, _ := f.ReadDefaults()
	return d
}

// ofTheCaller are settings of earlier versions: which programs are started for somebody is theirs to say, on their side.
var ofTheCaller = regexp.MustCompile(`(?m)^(editor|terminal):.*\n?`)

// ReadDefaults is Defaults that tells why the file cannot be read.
func (f *Facts) ReadDefaults() (d site.Defaults, err error) {
	text, err := ownfile.Read(f.DefaultsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return d, err
	}
	text = ofTheCaller.ReplaceAll(text, nil)
	if _, err := yamltext.Read(text, &d); err != nil {
		return site.Defaults{}, fmt.Errorf("%s: %w", f.DefaultsFile(), err)
	}
	return d, nil
}
