package site

import "fmt"

// Gateway is where a home's gateway answers for all sites: its ports, as they stand in every address.
type Gateway struct{ HTTP, HTTPS int }

// Port is the one of a scheme.
func (g Gateway) Port(https bool) int {
	if https {
		return g.HTTPS
	}
	return g.HTTP
}

// URL is the address of a host there, the port left out where it is the scheme's own.
func (g Gateway) URL(host string, https bool) string {
	scheme, own := "http", 80
	if https {
		scheme, own = "https", 443
	}
	if port := g.Port(https); port != own {
		return fmt.Sprintf("%s://%s:%d/", scheme, host, port)
	}
	return scheme + "://" + host + "/"
}
