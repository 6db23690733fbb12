package facts

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"

	"github.com/goccy/go-yaml"

	"vessik/internal/core/site"
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
	if err := yaml.UnmarshalWithOptions(text, &d, yaml.Strict()); err != nil {
		return site.Defaults{}, fmt.Errorf("%s: %s", f.DefaultsFile(), yaml.FormatError(err, false, false))
	}
	return d, nil
}
