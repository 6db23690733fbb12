package hosting

import "net/http"

// What tests outside of the package need: the ground that they stand on knows the whole service, and so this package.
var (
	Encoded     = encoded
	Keeping     = keeping
	HelperFiles = helperFiles
)

// Secret tells where a helper is asked, with what and by whom.
func (h *Helper) Secret() (address, key string, by *http.Client) { return h.address, h.key, h.client }
