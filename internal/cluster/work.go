package cluster

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/pack"
)

// batch is what one worker takes at a time: seeds of one plan.
type batch struct {
	Campaign string        `json:"campaign"`
	Plan     string        `json:"plan"` // the sum of its text, which has no seed
	Seeds    []uint64      `json:"seeds"`
	Try      int           `json:"try,omitempty"`     // the second time, somebody else plays it
	Not      []string      `json:"not,omitempty"`     // workers that are not to
	Record   bool          `json:"record,omitempty"`  // its run folder is wanted
	Again    bool          `json:"again,omitempty"`   // some of it may have been played for a campaign that is resumed
	Witness  bool          `json:"witness,omitempty"` // of the demo game, with a witness
	Variant  string        `json:"variant,omitempty"` // the sum of what is otherwise than the plan has it: what shows then is wanted
	Nth      int           `json:"nth,omitempty"`     // of the same variant, on the wall clock
	Slots    int           `json:"slots"`             // that a match of it takes
	Build    *pack.Content `json:"build,omitempty"`
}

// key is what a match counts under: its identity, and what is wanted of it.
func (b *batch) key(seed uint64) string {
	of := played.Identity{Plan: b.Plan, Variant: b.Variant, Judge: own(), Seed: seed}
	if b.Build != nil {
		of.Build = b.Build.Sum
	}
	key := of.Key() + "-" + strconv.FormatUint(seed, 10)
	if b.Record {
		key += "-run"
	}
	if b.Witness {
		key += "-witness"
	}
	if b.Variant != "" {
		key += "-" + strconv.Itoa(b.Nth)
	}
	if b.Try > 0 {
		key += "-try" + strconv.Itoa(b.Try)
	}
	return key
}

// like reports whether two batches differ in their seeds alone, so that they may be one.
func (b *batch) like(other *batch) bool {
	return !b.Record && !other.Record && b.Variant == "" && other.Variant == "" && b.Witness == other.Witness && b.Plan == other.Plan && b.sameBuild(other) && b.Try == other.Try && b.Slots == other.Slots && slices.Equal(b.Not, other.Not)
}

func (b *batch) sameBuild(other *batch) bool {
	return b.Build == other.Build || b.Build != nil && other.Build != nil && b.Build.Sum == other.Build.Sum
}

// Result is what is stored of one match.
type Result struct {
	Match played.Match `json:"match"`
	Error string       `json:"error,omitempty"` // it could not be tried at all
	Run   *Archive     `json:"run,omitempty"`   // of its run folder, if that was wanted

	Tried     *played.Tried     `json:"tried,omitempty"`     // a variant
	Witnessed *played.Witnessed `json:"witnessed,omitempty"` // by a witness
}

// well reports whether the match was played.
func (r *Result) well() bool { return r.Error == "" && r.Match.Verdict != played.Failed }

const (
	byHeader     = "Zw-By"     // who asked: a public key
	signHeader   = "Zw-Sign"   // of the whole message, by that key
	workerHeader = "Zw-Worker" // who played
	tookHeader   = "Zw-Took"   // for how long, in microseconds
)

// sign makes a message of a batch, signed if there is a key.
func (l *Link) sign(subject string, b *batch) (*nats.Msg, error) {
	text, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	return l.signed(subject, text)
}

// signed makes a message, signed if there is a key.
func (l *Link) signed(subject string, text []byte) (*nats.Msg, error) {
	m := &nats.Msg{Subject: subject, Data: text, Header: nats.Header{}}
	if l.signer == nil {
		return m, nil
	}
	by, err := l.signer.PublicKey()
	if err != nil {
		return nil, err
	}
	sign, err := l.signer.Sign(text)
	if err != nil {
		return nil, err
	}
	m.Header.Set(byHeader, by)
	m.Header.Set(signHeader, base64.StdEncoding.EncodeToString(sign))
	return m, nil
}

var errUntrusted = errors.New("it is not signed by a key that is trusted here")

// opened is the batch of a message, if it is signed by one of the keys that are trusted; without any, whoever the
// broker let in is.
func opened(text []byte, header nats.Header, trusted []string) (*batch, error) {
	if _, err := trusts(text, header, trusted); err != nil {
		return nil, err
	}
	b := &batch{}
	if err := json.Unmarshal(text, b); err != nil {
		return nil, fmt.Errorf("it is no work: %w", err)
	}
	switch {
	case !ValidName(b.Campaign):
		return nil, fmt.Errorf("its campaign has no name that may be used: %q", b.Campaign)
	case !isSum(b.Plan), b.Build != nil && !isSum(b.Build.Sum), b.Variant != "" && !isSum(b.Variant):
		return nil, errors.New("it names a plan, a variant or a build by no sum")
	case len(b.Seeds) == 0 || len(b.Seeds) > mostSeeds || (b.Record || b.Variant != "") && len(b.Seeds) > 1:
		return nil, fmt.Errorf("it has %d seeds", len(b.Seeds))
	}
	return b, nil
}

// trusts is the key by which a message is signed, if that is one of those that are trusted; nil if none are named.
func trusts(text []byte, header nats.Header, trusted []string) (nkeys.KeyPair, error) {
	if len(trusted) == 0 {
		return nil, nil
	}
	by := header.Get(byHeader)
	if !slices.Contains(trusted, by) {
		return nil, fmt.Errorf("%w, but by %q", errUntrusted, by)
	}
	sign, err := base64.StdEncoding.DecodeString(header.Get(signHeader))
	if err != nil {
		return nil, errUntrusted
	}
	key, err := nkeys.FromPublicKey(by)
	if err != nil {
		return nil, errUntrusted
	}
	if key.Verify(text, sign) != nil {
		return nil, errUntrusted
	}
	return key, nil
}

// sumOf is what a text is known by.
func sumOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

func isSum(text string) bool {
	b, err := hex.DecodeString(text)
	return err == nil && len(b) == sha256.Size && hex.EncodeToString(b) == text
}
