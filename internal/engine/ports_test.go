package engine

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPortThatIsHeldForAMomentIsHadALittleLater(t *testing.T) {
	held, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	port := held.Addr().(*net.TCPAddr).Port
	time.AfterFunc(50*time.Millisecond, func() { held.Close() })
	listener, err := listenOn(context.Background(), port)
	require.NoError(t, err)
	listener.Close()

	held, err = net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer held.Close()
	_, err = listenOn(context.Background(), held.Addr().(*net.TCPAddr).Port)
	assert.ErrorContains(t, err, "address already in use")
}
