package cluster

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// otherwise is what a variant has beside a plan that many variants share. Written out as a plan, the outcomes of thousands of
// packets would take longer than the match.
type otherwise struct {
	Given  map[string][2][]link.Given `json:"given,omitempty"` // by link: of packets up, and down
	Script map[string][]bot.Moment    `json:"script,omitempty"`
	Until  time.Duration              `json:"until,omitempty"`
	Usual  int                        `json:"usual,omitempty"`
}

// apart takes a variant apart: its plan without outcomes, and all else.
func apart(v played.Variant) (*plan.Plan, []byte, error) {
	p := *v.Plan
	p.Links = slices.Clone(p.Links)
	o := otherwise{Given: map[string][2][]link.Given{}, Script: v.Script, Until: v.Until, Usual: v.UsualFrom}
	for i := range p.Links {
		l := &p.Links[i]
		if len(l.Up.Given)+len(l.Down.Given) > 0 {
			o.Given[l.Name] = [2][]link.Given{l.Up.Given, l.Down.Given}
			l.Up.Given, l.Down.Given = nil, nil
		}
	}
	text, err := json.Marshal(o)
	if err != nil {
		return nil, nil, err
	}
	packer, err := packer()
	if err != nil {
		return nil, nil, err
	}
	return &p, packer.EncodeAll(text, nil), nil
}

const mostVariant = 256 << 20 // bytes, unpacked

// To make one of these takes longer than to use it, and several may use one at once.
var (
	packer = sync.OnceValues(func() (*zstd.Encoder, error) {
		return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	})
	unpacker = sync.OnceValues(func() (*zstd.Decoder, error) {
		return zstd.NewReader(nil, zstd.WithDecoderMaxMemory(mostVariant))
	})
)

// together makes a variant of a plan again.
func together(p *plan.Plan, packed []byte) (v played.Variant, err error) {
	unpacker, err := unpacker()
	if err != nil {
		return v, err
	}
	text, err := unpacker.DecodeAll(packed, nil)
	if err != nil {
		return v, fmt.Errorf("what is otherwise in it cannot be read: %w", err)
	}
	var o otherwise
	if err := json.Unmarshal(text, &o); err != nil {
		return v, fmt.Errorf("what is otherwise in it cannot be read: %w", err)
	}
	one := *p
	one.Links = slices.Clone(p.Links)
	for i := range one.Links {
		l := &one.Links[i]
		given := o.Given[l.Name]
		l.Up.Given, l.Down.Given = given[0], given[1]
		delete(o.Given, l.Name)
	}
	if len(o.Given) > 0 {
		return v, errors.New("what is otherwise in it is about links that its plan has not")
	}
	return played.Variant{Plan: &one, Script: o.Script, Until: o.Until, UsualFrom: o.Usual}, nil
}
