package practice

import (
	"context"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A host that ends gives its doors free, and opens them again.
func TestDoorsAreOpenedAgain(t *testing.T) {
	h, err := Open(t.TempDir(), nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	doors, err := OpenDoors(0, 0)
	require.NoError(t, err)
	ssh, ftp := doors.SSH.Addr().(*net.TCPAddr), doors.FTP.Addr().(*net.TCPAddr)
	for range 3 {
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan error, 1)
		go func() { ended <- h.Serve(ctx, doors) }()
		for _, at := range []*net.TCPAddr{ssh, ftp} {
			require.Eventually(t, func() bool {
				connection, err := net.Dial("tcp", at.String())
				if err != nil {
					return false
				}
				defer connection.Close()
				head := make([]byte, 3)
				_, err = connection.Read(head)
				return err == nil
			}, 5*time.Second, 10*time.Millisecond)
		}
		cancel()
		assert.NoError(t, <-ended)
		doors, err = OpenDoors(ssh.Port, ftp.Port)
		require.NoError(t, err)
	}
}
