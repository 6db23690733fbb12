package names

import (
	"context"
	"net"
	"strings"
	"time"
)

// Dial connects to an address within a time. A name that ends in .localhost is this machine, as browsers have it (RFC 6761), and not every
// resolver.
func Dial(ctx context.Context, network, address string, within time.Duration) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		address = net.JoinHostPort("127.0.0.1", port)
	}
	return (&net.Dialer{Timeout: within}).DialContext(ctx, network, address)
}
