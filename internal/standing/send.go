package standing

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"vessik/internal/blobs"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/relay"
)

// Bounds of what is sent by one request.
const (
	piecesAtOnce = 256
	bytesAtOnce  = 16 << 20
)

// send carries what a relay lacks of a site, and has it put up.
func (f *Feature) send(ctx context.Context, w *operation.Part) error {
	asked, err := operation.Payload[sending](w)
	if err != nil {
		return err
	}
	s, err := w.Site()
	if err != nil {
		return err
	}
	host, door, err := f.door(s.Name, asked.Asked.Relay)
	if err != nil {
		return err
	}
	if asked.Password != nil {
		key, err := f.key()
		if err != nil {
			return err
		}
		password, err := key.Open("standing "+s.Name, asked.Password)
		if err != nil {
			return err
		}
		asked.Asked.Password = string(password)
	}
	var up wire.StoodUp
	w.Wait(func() { up, err = f.carry(ctx, w, s, asked.Asked, door) }) // a relay may take long: meanwhile others have the part's place
	if err != nil {
		return err
	}
	if up.Copy != nil {
		up.Copy.Relay, up.Copy.Site, up.Copy.Password = host, s.Name, "" // it is told to whoever asks for it
	}
	operation.Learn(w, func(p *sending) { p.Result = up })
	f.Machine.Registry.Announce(s.Name)
	return nil
}

func (f *Feature) carry(ctx context.Context, w *operation.Part, s site.Site, asked wire.Stand, door *relay.Door) (up wire.StoodUp,
	err error) {
	var carried atomic.Int64
	defer func() { up.Carried = carried.Load() }()
	var before *wire.StandingCopy
	if err := door.JSON(ctx, "GET", keyOf(s), nil, &before); err != nil && !errors.Is(err, relay.ErrNothing) {
		return up, err
	}
	if before != nil && asked.Terms == (wire.Terms{}) { // guests may what they might before
		asked.Terms = wire.Terms{Open: !before.Asks, Only: before.Only, ReadOnly: before.ReadOnly, NoSignIn: before.NoSignIn,
			Remarks: before.Remarks}
	}
	for range 3 { // pieces may go away meanwhile, with another copy
		now := wire.StandNow{Stand: asked, Site: s.Name}
		if now.Pieces, now.Bytes, err = f.pieces(ctx, w, s, asked, door, &carried); err != nil {
			return up, err
		}
		if err = door.JSON(ctx, "PUT", keyOf(s), now, &up.Copy); !errors.Is(err, relay.ErrPieces) {
			break
		}
	}
	if err != nil {
		return up, err
	}
	w.Progress("the relay puts it up", -1)
	for up.Copy.State == wire.CopyMaking {
		select {
		case <-ctx.Done():
			return up, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
		if err := door.JSON(ctx, "GET", keyOf(s), nil, &up.Copy); err != nil {
			return up, err
		}
	}
	if up.Copy.State == wire.CopyFailed {
		return up, fmt.Errorf("the relay could not put it up: %s", up.Copy.Why)
	}
	return up, nil
}

// pieces reads a site, carries what the relay does not have yet, and tells what it is made of.
func (f *Feature) pieces(ctx context.Context, w *operation.Part, s site.Site, asked wire.Stand, door *relay.Door, carried *atomic.Int64) (
	sums []string, length int64, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	from, to := io.Pipe()
	var packing sync.WaitGroup
	packing.Go(func() {
		to.CloseWithError(f.Pack(ctx, s.Name, wire.MakeParcel{Plain: true, Without: asked.Without}, to, func(done, all int64) {
			w.Progress(fmt.Sprintf("%d MB of %d MB read, %d MB carried", done>>20, all>>20, carried.Load()>>20), float64(done)/float64(max(all, 1)))
		}))
	})
	defer packing.Wait()
	defer from.Close()
	c := &carrier{door: door, key: keyOf(s), carried: carried, held: map[string][]byte{}}
	err = blobs.Pieces(from, func(sum string, piece []byte) error {
		sums = append(sums, sum)
		length += int64(len(piece))
		return c.add(ctx, sum, piece)
	})
	if err == nil {
		err = c.flush(ctx)
	}
	return sums, length, err
}

// carrier sends pieces, many by one request.
type carrier struct {
	door    *relay.Door
	key     string
	carried *atomic.Int64
	held    map[string][]byte
	bytes   int
}

func (c *carrier) add(ctx context.Context, sum string, piece []byte) error {
	if c.held[sum] == nil {
		c.held[sum] = bytes.Clone(piece)
		c.bytes += len(piece)
	}
	if len(c.held) < piecesAtOnce && c.bytes < bytesAtOnce {
		return nil
	}
	return c.flush(ctx)
}

func (c *carrier) flush(ctx context.Context) error {
	if len(c.held) == 0 {
		return nil
	}
	sums, missing := make([]string, 0, len(c.held)), []string{}
	for sum := range c.held {
		sums = append(sums, sum)
	}
	if err := c.door.JSON(ctx, "POST", c.key+"/missing", sums, &missing); err != nil {
		return err
	}
	var body bytes.Buffer
	for _, sum := range missing {
		packed := blobs.Pack(c.held[sum])
		binary.Write(&body, binary.BigEndian, uint32(len(packed)))
		body.Write(packed)
	}
	clear(c.held)
	c.bytes = 0
	if body.Len() == 0 {
		return nil
	}
	c.carried.Add(int64(body.Len()))
	answer, err := c.door.Ask(ctx, "POST", c.key+"/pieces", &body)
	if err == nil {
		answer.Body.Close()
	}
	return err
}
