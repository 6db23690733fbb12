package sending

import (
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/running"
)

//go:embed lander.php
var landerText string

// made is what a lander knows; the manifest and all else it reads in the parcel.
type made struct {
	ID     string        `json:"id"`
	Key    string        `json:"key"` // the SHA-256 of the key
	Zip    string        `json:"zip"`
	Values []cms.Pattern `json:"values"`
	Caches []string      `json:"caches"`
}

// Lander makes the PHP file that lands a site's parcel where no Vessik is, and the key without which it does nothing.
func (f *Feature) Lander(name, zip string) (wire.Lander, error) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return wire.Lander{}, site.NoSite(name)
	}
	if s.Root != "" {
		return wire.Lander{}, site.Problems{{Site: s.Name, Field: "with-lander", Message: "what is served of the site is its folder " + s.Root +
			" alone, and a lander puts a site into the folder that is served", Remedy: "unpack the parcel at the host by hand"}}
	}
	k, key := f.Changer.Machine.CMS.Of(s), strings.ToLower(rand.Text())
	sum := sha256.Sum256([]byte(key))
	text, err := json.Marshal(made{ID: running.RandomHex(8), Key: hex.EncodeToString(sum[:]), Zip: zip,
		Values: k.Patterns(), Caches: append([]string{}, k.Layout.Caches...)})
	if err != nil {
		return wire.Lander{}, err
	}
	return wire.Lander{Name: strings.TrimSuffix(zip, ".zip") + "-lander.php", Secret: key,
		Text: strings.Replace(landerText, "{{made}}", base64.StdEncoding.EncodeToString(text), 1)}, nil
}
