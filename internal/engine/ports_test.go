package engine

import (
	"context"
	"net"
	"strconv"
	"sync"
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

func TestAskingWhoHoldsAPortKeepsNobodyOut(t *testing.T) {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	require.NoError(t, listener.Close())
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for range 2000 {
				if !assert.Empty(t, PortHolder(port)) {
					return
				}
			}
		})
	}
	group.Wait()
	asked := make(chan struct{})
	asking, cancel := context.WithCancel(context.Background())
	go func() {
		defer close(asked)
		for asking.Err() == nil {
			PortHolder(port)
		}
	}()
	for range 500 {
		listener, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		require.NoError(t, err)
		require.NoError(t, listener.Close())
	}
	cancel()
	<-asked
}

func TestSocketsAreToldAsTheTablesHaveThem(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		listener, err := net.Listen("tcp", address)
		require.NoError(t, err)
		defer listener.Close()
		port := listener.Addr().(*net.TCPAddr).Port
		connection, err := net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		defer connection.Close()
		accepted, err := listener.Accept()
		require.NoError(t, err)
		defer accepted.Close()
		ours := func(rows []socketRow) (found []socketRow) {
			for _, row := range rows {
				if row.port == port {
					found = append(found, row)
				}
			}
			return found
		}
		for _, state := range []int{listens, established} {
			assert.Len(t, ours(sockets(state)), 1, "%s %d", address, state)
			assert.Equal(t, ours(tabled(state)), ours(sockets(state)), "%s %d", address, state)
		}
	}
}
