package records

import (
	"context"
	"encoding/json"
	"time"
)

// Relay is one at which this home has an account. Its token is sealed.
type Relay struct {
	Host        string    `json:"host"`
	URL         string    `json:"url"`
	Certificate string    `json:"certificate,omitempty"` // pinned, as PEM; empty where an authority vouches for it
	JoinedAt    time.Time `json:"joined_at"`
	Token       string    `json:"-"`
}

func relaySecret(host string) string { return "relay " + host }

// SaveRelay records a relay.
func (r *Records) SaveRelay(ctx context.Context, relay Relay) error {
	document, err := json.Marshal(relay)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "REPLACE INTO relays (host, document, sealed) VALUES (?,?,?)", relay.Host, document,
		r.key.Seal(relaySecret(relay.Host), []byte(relay.Token)))
	return wrap(err, "record the relay "+relay.Host)
}

// Relays are all relays, by host.
func (r *Records) Relays(ctx context.Context) ([]Relay, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT host, document, sealed FROM relays ORDER BY host")
	return collect(rows, err, "read the relays", func(scan func(...any) error) (relay Relay, err error) {
		var host string
		var document, sealed []byte
		if err := scan(&host, &document, &sealed); err != nil {
			return relay, err
		}
		if err := json.Unmarshal(document, &relay); err != nil {
			return relay, err
		}
		token, err := r.key.Open(relaySecret(host), sealed)
		relay.Token = string(token)
		return relay, err
	})
}

// DropRelay forgets a relay.
func (r *Records) DropRelay(ctx context.Context, host string) error {
	_, err := r.db.ExecContext(ctx, "DELETE FROM relays WHERE host=?", host)
	return wrap(err, "forget the relay "+host)
}
