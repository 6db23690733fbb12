package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
)

var ctx = context.Background()

func against(t *testing.T, handler http.HandlerFunc) *Client {
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	return &Client{Base: server.URL, Token: "t", HTTP: server.Client()}
}

func TestTheServiceIsFoundByItsHome(t *testing.T) {
	home := t.TempDir()
	_, err := ForHome(home)
	assert.ErrorIs(t, err, ErrUnreachable)
	assert.ErrorContains(t, err, "vessik serve")
	text, _ := json.Marshal(wire.ServiceFile{API: "http://127.0.0.1:1", PID: 7})
	require.NoError(t, os.WriteFile(filepath.Join(home, "service.json"), text, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(home, "token"), []byte("secret\n"), 0o600))
	c, err := ForHome(home)
	require.NoError(t, err)
	assert.Equal(t, "secret", c.Token)
	_, err = c.Status(ctx)
	assert.ErrorIs(t, err, ErrUnreachable, "a service that died left its file")
}

func TestAnotherServiceOnAPortThatWasLeftIsTold(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) })
	_, err := c.Status(ctx)
	assert.ErrorIs(t, err, ErrUnreachable)
	assert.ErrorContains(t, err, "is not the service of this home folder")
}

func TestARefusalKeepsEveryProblem(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer t", r.Header.Get("Authorization"))
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(422)
		fmt.Fprint(w, `{"status":422,"detail":"nothing was changed","errors":[{"site":"a","field":"port","message":"taken","remedy":"another"},`+
			`{"field":"name","message":"m","remedy":"r"}]}`)
	})
	_, err := c.New(ctx, Request{Name: "a"})
	var problem *ProblemDetails
	require.True(t, errors.As(err, &problem))
	assert.Equal(t, 422, problem.Status)
	assert.Len(t, problem.Errors, 2)
	assert.Equal(t, "a: port: taken; another", problem.Errors[0].String())
}

func TestAnAnswerIsReadWhole(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/api/v1/sites/a%2Fb", r.URL.EscapedPath(), "a name cannot leave its place")
		fmt.Fprint(w, `{"name":"a/b","port":21000}`)
	})
	s, err := c.Site(ctx, "a/b", true)
	require.NoError(t, err)
	assert.Equal(t, 21000, s.Port)
}

func TestWatchingFollowsToTheEnd(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "event: operation\ndata: {\"id\":\"7\",\"state\":\"running\",\"sites\":[]}\n\n: alive\n\nevent: end\ndata: "+
			"{\"id\":\"7\",\"state\":\"done\",\"sites\":[]}\n\n")
	})
	seen := []plan.OperationState{}
	watched, err := c.Watch(ctx, "7", func(w Watched) { seen = append(seen, w.State) })
	require.NoError(t, err)
	assert.Equal(t, []plan.OperationState{"running", "done"}, seen)
	assert.Equal(t, plan.OperationDone, watched.State)
}

func TestAServiceThatDiesWhileWatchedIsNotTakenForTheEnd(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "event: operation\ndata: {\"id\":\"7\",\"state\":\"running\",\"sites\":[]}\n\n")
	})
	_, err := c.Watch(ctx, "7", nil)
	assert.ErrorIs(t, err, ErrUnreachable)
	assert.ErrorContains(t, err, "vessik operations 7")
}
