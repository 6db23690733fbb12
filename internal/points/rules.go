package points

import (
	"encoding/json"
	"time"

	"vessik/internal/core/retention"
	"vessik/internal/ownfile"
)

// Rules are what somebody asked for of a site's points: to have one taken at times, and how much all may take.
type Rules struct {
	Every time.Duration `json:"every,omitempty"` // 0 is never
	Most  int64         `json:"most,omitempty"`  // in bytes; 0 is as usual
}

// rulesName is the file of a site's rules, JSON.
const rulesName = ".rules.json"

// MostBytes is how much all points of a site may take.
func (r Rules) MostBytes() int64 { return r.retention().Bytes }

func (r Rules) retention() retention.Rules {
	rules := retention.Usual
	if r.Most > 0 {
		rules.Bytes = r.Most
	}
	return rules
}

// Rules are those of a site; they stand beside its points, and go where they go.
func (p *Points) Rules(name string) (rules Rules) {
	if text, err := ownfile.Read(p.dir(name, rulesName)); err != nil || json.Unmarshal(text, &rules) != nil {
		return Rules{}
	}
	return rules
}

// SetRules puts others in their place.
func (p *Points) SetRules(name string, rules Rules) error {
	text, err := json.Marshal(rules)
	if err != nil {
		return err
	}
	if rules == (Rules{}) {
		return ownfile.RemoveAll(p.dir(name, rulesName))
	}
	if err := ownfile.Make(p.dir(name), 0o700); err != nil {
		return err
	}
	return ownfile.Write(p.dir(name, rulesName), text, 0o600)
}
