package copies

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"time"

	"vessik/client"
	"vessik/internal/blobs"
	"vessik/internal/core/wire"
	"vessik/internal/relay"
	"vessik/internal/running"
)

// Bounds of what accounts send, in bytes.
const (
	mostAsked  = 4 << 20  // in words
	mostAtOnce = 64 << 20 // in pieces, by one request
)

var (
	errNone = errors.New("there is no such copy")
	isKey   = regexp.MustCompile(`^[0-9a-f]{16}$`).MatchString
)

// For answers what an account asks, below relay.StandingPath.
func (r *Room) For(account string) http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, do func(q *http.Request, k kept) (any, error)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			k := kept{Account: account, StandingCopy: wire.StandingCopy{Key: q.PathValue("key")}}
			if q.PathValue("key") != "" && !isKey(k.Key) {
				respond(w, nil, errNone)
				return
			}
			r.mu.Lock()
			known, there := r.all[k.id()]
			r.mu.Unlock()
			if there {
				k = known
			}
			answer, err := do(q, k)
			respond(w, answer, err)
		})
	}
	const base = relay.StandingPath
	handle("GET "+base+"{$}", func(q *http.Request, _ kept) (any, error) { return r.list(q.Context(), account) })
	handle("POST "+base+"{key}/missing", r.missing)
	handle("POST "+base+"{key}/pieces", r.take)
	handle("PUT "+base+"{key}", r.stand)
	for pattern, do := range map[string]func(q *http.Request, k kept) (any, error){
		"GET " + base + "{key}":    func(q *http.Request, k kept) (any, error) { return r.shown(q.Context(), k) },
		"DELETE " + base + "{key}": func(q *http.Request, k kept) (any, error) { return nil, r.drop(q.Context(), k) },
		"GET " + base + "{key}/mail": func(q *http.Request, k kept) (any, error) {
			return r.Service.Mails(q.Context(), client.MailAsked{Site: k.local()})
		},
		"GET " + base + "{key}/mail/{id}": r.mail,
		"DELETE " + base + "{key}/mail/{id}": func(q *http.Request, k kept) (any, error) {
			id, err := r.mailID(q, k)
			if err == nil {
				err = r.Service.DropMail(q.Context(), id)
			}
			return nil, err
		},
		"GET " + base + "{key}/remarks": func(q *http.Request, k kept) (any, error) { return r.Service.Remarks(q.Context(), k.local()) },
		"GET " + base + "{key}/remarks/{id}": func(q *http.Request, k kept) (any, error) {
			id, err := strconv.ParseInt(q.PathValue("id"), 10, 64)
			if err != nil {
				return nil, errNone
			}
			return r.Service.Drawing(q.Context(), k.local(), id)
		},
		"POST " + base + "{key}/remarks/{id}": r.reply,
	} {
		handle(pattern, func(q *http.Request, k kept) (any, error) {
			if k.State == "" {
				return nil, errNone
			}
			return do(q, k)
		})
	}
	return mux
}

// respond answers with a value as JSON, with bytes as they are, or says what is wrong.
func respond(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Cache-Control", "no-store")
	raw, isRaw := value.([]byte)
	switch {
	case errors.Is(err, errNone):
		http.Error(w, err.Error(), http.StatusNotFound)
	case errors.Is(err, relay.ErrPieces):
		http.Error(w, err.Error(), http.StatusConflict)
	case err != nil:
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
	case isRaw:
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Write(raw)
	case value == nil:
		w.WriteHeader(http.StatusNoContent)
	default:
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(value)
	}
}

func asked(q *http.Request, into any) error {
	if err := json.NewDecoder(http.MaxBytesReader(nil, q.Body, mostAsked)).Decode(into); err != nil {
		return fmt.Errorf("what was asked cannot be read: %w", err)
	}
	return nil
}

func (r *Room) list(ctx context.Context, account string) (any, error) {
	all := []wire.StandingCopy{}
	for _, k := range r.of(account) {
		shown, err := r.shown(ctx, k)
		if err != nil {
			return nil, err
		}
		all = append(all, shown)
	}
	return all, nil
}

// shown is what is told of a copy.
func (r *Room) shown(ctx context.Context, k kept) (wire.StandingCopy, error) {
	w := k.StandingCopy
	if here, err := r.site(ctx, k); err != nil || here == nil {
		return w, err
	}
	mails, err := r.Service.Mails(ctx, client.MailAsked{Site: k.local()})
	if err != nil {
		return w, err
	}
	remarks, err := r.Service.Remarks(ctx, k.local())
	if err != nil {
		return w, err
	}
	open, err := r.Service.Invitations(ctx, k.local())
	for _, i := range open {
		w.Requests += i.Requests
	}
	w.Mails = len(mails)
	w.Remarked = len(slices.DeleteFunc(remarks, func(m client.Remark) bool { return m.State == wire.RemarkDone }))
	return w, err
}

// missing tells which pieces are to be sent.
func (r *Room) missing(q *http.Request, k kept) (any, error) {
	var sums []string
	if err := asked(q, &sums); err != nil {
		return nil, err
	}
	store := r.pieces(k.Account)
	return slices.DeleteFunc(sums, func(sum string) bool { _, there := store.Find(sum); return there }), nil
}

// take keeps pieces: each is preceded by its length, four bytes, the greatest first.
func (r *Room) take(q *http.Request, k kept) (any, error) {
	store, from := r.pieces(k.Account), io.LimitReader(q.Body, mostAtOnce)
	if err := running.Room(r.Dir, mostAtOnce); err != nil {
		return nil, errors.New("the relay has no room left")
	}
	for {
		var length uint32
		if err := binary.Read(from, binary.BigEndian, &length); errors.Is(err, io.EOF) {
			return nil, store.Sync()
		} else if err != nil {
			return nil, fmt.Errorf("pieces that break off: %w", err)
		}
		if length > blobs.LongestPacked {
			return nil, errors.New("a piece that is too long")
		}
		if r.took(k.Account, int64(length)) > r.Limits.Bytes {
			return nil, errors.Join(fmt.Errorf("the relay keeps %d MB of an account, all copies together; end one first, or leave something out",
				r.Limits.Bytes>>20), r.sweep(k.Account)) // what is of no copy is not in the way of a smaller one
		}
		packed := make([]byte, length)
		if _, err := io.ReadFull(from, packed); err != nil {
			return nil, fmt.Errorf("pieces that break off: %w", err)
		}
		pieces := &r.locksOf(k.Account).pieces
		pieces.RLock()
		_, err := store.Take(packed)
		pieces.RUnlock()
		if err != nil {
			return nil, err
		}
	}
}

// stand has a copy be put up of pieces that are there.
func (r *Room) stand(q *http.Request, k kept) (any, error) {
	var now wire.StandNow
	if err := asked(q, &now); err != nil {
		return nil, err
	}
	if now.Seconds == 0 {
		now.Seconds = int(r.Limits.For.Seconds())
	}
	pieces := &r.locksOf(k.Account).pieces
	pieces.RLock() // nobody sweeps what is named here
	defer pieces.RUnlock()
	store, until := r.pieces(k.Account), r.Now().UTC().Add(time.Duration(now.Seconds)*time.Second).Truncate(time.Second)
	lasts := time.Duration(now.Seconds) * time.Second
	switch {
	case k.State == wire.CopyMaking:
		return nil, errors.New("it is being put up at this moment; try again when that is done")
	case k.State == wire.CopyOver && k.Why != "":
		return nil, errors.New(k.Why)
	case len(now.Site) == 0 || len(now.Site) > 253 || len(now.Pieces) == 0 || now.Bytes < 0:
		return nil, errors.New("what was sent is no site")
	case lasts < time.Minute || lasts > r.Limits.For:
		return nil, fmt.Errorf("a copy stands for a minute at least, and for %d days at the most", int(r.Limits.For.Hours()/24))
	case slices.ContainsFunc(now.Pieces, func(sum string) bool { _, there := store.Find(sum); return !there }):
		return nil, relay.ErrPieces
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	others, bytes := 0, now.Bytes
	for _, other := range r.all {
		if other.Account == k.Account && other.Key != k.Key {
			others++
			bytes += other.Bytes
		}
	}
	switch {
	case others >= r.Limits.Copies:
		return nil, fmt.Errorf("the relay keeps %d copies of an account at the most; end one first", r.Limits.Copies)
	case bytes > r.Limits.Bytes:
		return nil, fmt.Errorf("the relay keeps %d MB of an account, all copies together; end one first, or leave something out",
			r.Limits.Bytes>>20)
	}
	if k.State == "" {
		k.MadeAt = r.Now().UTC().Truncate(time.Second)
	}
	k.Site, k.Pieces, k.Bytes, k.Until, k.State, k.Why, k.OverAt = now.Site, now.Pieces, now.Bytes, until, wire.CopyMaking, "", time.Time{}
	if k.Asked = now.Stand; now.Password != "" || now.Open {
		k.Password = now.Password
	}
	k.Asked.Password = ""
	if err := r.save(k); err != nil {
		return nil, err
	}
	r.work.Go(func() { r.make(k) })
	return k.StandingCopy, nil
}

// drop ends a copy, and removes what is of it.
func (r *Room) drop(ctx context.Context, k kept) error {
	if k.State == wire.CopyMaking {
		return errors.New("it is being put up at this moment; try again when that is done")
	}
	return r.remove(context.WithoutCancel(ctx), k)
}

// mailID is a message that a copy sent.
func (r *Room) mailID(q *http.Request, k kept) (int64, error) {
	id, err := strconv.ParseInt(q.PathValue("id"), 10, 64)
	if err != nil {
		return 0, errNone
	}
	all, err := r.Service.Mails(q.Context(), client.MailAsked{Site: k.local()})
	if err == nil && !slices.ContainsFunc(all, func(m client.Mail) bool { return m.ID == id }) {
		err = errNone
	}
	return id, err
}

// mail is a message as it was sent.
func (r *Room) mail(q *http.Request, k kept) (any, error) {
	id, err := r.mailID(q, k)
	if err != nil {
		return nil, err
	}
	var raw bytes.Buffer
	err = r.Service.MailSource(q.Context(), id, 0, &raw)
	return raw.Bytes(), err
}

// reply answers a guest's remark.
func (r *Room) reply(q *http.Request, k kept) (any, error) {
	var said wire.ReplyTo
	err := asked(q, &said)
	id, wrong := strconv.ParseInt(q.PathValue("id"), 10, 64)
	if wrong != nil {
		err = errNone
	}
	if err != nil {
		return nil, err
	}
	return r.Service.AnswerRemark(q.Context(), k.local(), id, said)
}
