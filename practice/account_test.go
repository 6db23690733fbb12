package practice

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// page is the account page of a host with one customer, and what that customer types.
func page(t *testing.T) (h *Host, base string, c Customer) {
	t.Helper()
	h, _, _ = rented(t)
	require.Eventually(t, func() bool { h.mu.Lock(); defer h.mu.Unlock(); return h.sshAt != "" }, 20*time.Second, time.Millisecond, "it opens")
	server := httptest.NewUnstartedServer(nil)
	server.Config.Handler = h.page.routes("http://" + server.Listener.Addr().String())
	server.Start()
	t.Cleanup(server.Close)
	c, err := h.Customer("orchard")
	require.NoError(t, err)
	return h, server.URL, c
}

func posted(t *testing.T, address string, form map[string]string) (int, map[string]any, string) {
	t.Helper()
	values := url.Values{}
	for key, value := range form {
		values.Set(key, value)
	}
	response, err := http.PostForm(address, values)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	said := map[string]any{}
	_ = json.Unmarshal(text, &said) // a page is none
	return response.StatusCode, said, string(text)
}

// A program is let in by its code, the customer's password and a one-time code, each once; guesses are slowed down.
func TestAProgramIsLetIn(t *testing.T) {
	h, base, c := page(t)
	_, said, _ := posted(t, base+"/device/code", map[string]string{"client_id": "vessik"})
	device, code := said["device_code"].(string), said["user_code"].(string)
	assert.Regexp(t, `^[B-DF-HJ-NP-TV-XZ]{4}-[B-DF-HJ-NP-TV-XZ]{4}$`, code)
	ask := func(device string) any {
		_, said, _ := posted(t, base+"/token", map[string]string{"grant_type": deviceGrant, "device_code": device})
		if said["error"] != nil {
			return said["error"]
		}
		return said["access_token"]
	}
	assert.Equal(t, "invalid_grant", ask("guessed"))
	assert.Equal(t, "authorization_pending", ask(device))
	assert.Equal(t, "slow_down", ask(device))
	digits, err := c.Code(time.Now())
	require.NoError(t, err)
	allow := func(more map[string]string) (int, string) {
		form := map[string]string{"user_code": code, "customer": "orchard", "password": c.Password, "code": digits, "do": "allow"}
		for key, value := range more {
			form[key] = value
		}
		status, _, text := posted(t, base+"/device", form)
		return status, text
	}
	for _, wrong := range []map[string]string{{"password": "guessed"}, {"code": "000000"}, {"customer": "moss"}} {
		status, text := allow(wrong)
		assert.Equal(t, 403, status)
		assert.Contains(t, text, "is wrong")
	}
	assert.NotContains(t, h.page.customers, "moss", "nobody becomes a customer by asking")
	status, _ := allow(map[string]string{"user_code": strings.ToLower(code)})
	assert.Equal(t, 200, status)
	status, text := allow(nil)
	assert.Equal(t, 403, status, text, "no one-time code is good twice")
	h.page.mu.Lock()
	h.page.devices[device].asked = time.Time{}
	h.page.mu.Unlock()
	token := ask(device).(string)
	assert.Equal(t, "invalid_grant", ask(device), "nor a device code")
	for range mostTries {
		allow(map[string]string{"password": "guessed"})
	}
	status, text = allow(nil)
	assert.Equal(t, 429, status, text)

	with := func(method, path, token string) (int, string) {
		request, err := http.NewRequest(method, base+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	status, text = with("GET", "/environments", token)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, `"at":"sftp://orchard-live@127.0.0.1:`)
	status, _ = with("GET", "/environments", "guessed")
	assert.Equal(t, 401, status)
	status, _ = with("POST", "/environments/moss-live/credentials", token)
	assert.Equal(t, 404, status)
	status, text = with("POST", "/environments/orchard-live/credentials", token)
	assert.Equal(t, 200, status)
	var lent struct{ Password string }
	require.NoError(t, json.Unmarshal([]byte(text), &lent))
	_, known := h.signIn("orchard-live", lent.Password)
	assert.True(t, known)
	h.EndLent()
	_, known = h.signIn("orchard-live", lent.Password)
	assert.False(t, known)
	_, known = h.signIn("nobody", "")
	assert.False(t, known)
}

// What a customer refuses, or lets lie, is not let in.
func TestAProgramIsRefused(t *testing.T) {
	h, base, c := page(t)
	for says, does := range map[string]func(code string){
		"access_denied": func(code string) {
			digits, err := c.Code(time.Now())
			require.NoError(t, err)
			status, _, text := posted(t, base+"/device", map[string]string{"user_code": code, "customer": "orchard", "password": c.Password,
				"code": digits, "do": "refuse"})
			assert.Equal(t, 200, status, text)
		},
		"expired_token": func(code string) {
			h.page.mu.Lock()
			defer h.page.mu.Unlock()
			for _, d := range h.page.devices {
				if d.userCode == code {
					d.until = time.Now().Add(-time.Second)
				}
			}
		},
	} {
		_, said, _ := posted(t, base+"/device/code", map[string]string{"client_id": "vessik"})
		does(said["user_code"].(string))
		_, answered, _ := posted(t, base+"/token", map[string]string{"grant_type": deviceGrant, "device_code": said["device_code"].(string)})
		assert.Equal(t, says, answered["error"])
	}
	status, _, text := posted(t, base+"/device", map[string]string{"user_code": `"><script>alert(1)</script>`, "customer": "orchard"})
	assert.Equal(t, 403, status)
	assert.NotContains(t, text, "<script>")
}

// The directory answers as its document says: every path is there, and every answer has what it must have.
func TestTheDirectoryIsAsItsDocumentSays(t *testing.T) {
	text, err := os.ReadFile("../docs/directory.openapi.yaml")
	require.NoError(t, err)
	type answers struct {
		Responses map[string]struct {
			Content map[string]struct {
				Schema struct {
					Required   []string
					Properties map[string]any
				}
			}
		}
	}
	var document struct {
		Paths map[string]map[string]answers
	}
	require.NoError(t, yaml.Unmarshal(text, &document))
	h, base, _ := page(t)
	h.page.tokens["shown"] = lent{"orchard", time.Now().Add(time.Hour)}
	require.Len(t, document.Paths, 5)
	for path, methods := range document.Paths {
		for method, operation := range methods {
			form := strings.NewReader(url.Values{"client_id": {"vessik"}, "grant_type": {deviceGrant}, "device_code": {"none"}}.Encode())
			request, err := http.NewRequest(strings.ToUpper(method), base+strings.ReplaceAll(path, "{name}", "orchard-live"), form)
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer shown")
			request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			said := map[string]any{}
			require.NoError(t, json.NewDecoder(response.Body).Decode(&said), path)
			response.Body.Close()
			known, is := operation.Responses[strconv.Itoa(response.StatusCode)]
			require.True(t, is, "%s answers %d", path, response.StatusCode)
			schema := known.Content["application/json"].Schema
			for _, name := range schema.Required {
				assert.Contains(t, said, name, path)
			}
			for name := range said {
				if schema.Properties[name] == nil && path != "/.well-known/oauth-authorization-server" {
					t.Errorf("%s answers %s, of which its document does not tell", path, name)
				}
			}
		}
	}
}
