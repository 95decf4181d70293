package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/nats-io/nats.go/jetstream"

	"zitherwheel/internal/pack"
)

// Run folders that workers hand over are kept by their content, in parts: a worker can add one, and neither
// change, nor remove, nor replace what is there.
const (
	runStream  = "ZWHEEL_RUNS"
	runSubject = "zw.run."
	partOfRun  = 1 << 20 // bytes
	mostParts  = 1 << 10
)

// ofRuns are bounds that hardly any run folder exceeds.
var ofRuns = pack.Bounds{Bytes: 4 << 30, Files: 2000}

// Archive is a run folder that a worker has handed over.
type Archive struct {
	Sum   string `json:"sum"` // SHA-256, in hex
	Parts int    `json:"parts"`
}

func (a *Archive) part(campaign string, n int) string {
	return fmt.Sprintf("%s%s.%s.%d", runSubject, campaign, a.Sum, n)
}

// storeRun hands over an archive. Parts that are there already are those of the same content.
func (l *Link) storeRun(ctx context.Context, campaign string, archive []byte) (*Archive, error) {
	a := &Archive{Sum: sumOf(archive), Parts: (len(archive) + partOfRun - 1) / partOfRun}
	if a.Parts > mostParts {
		return nil, fmt.Errorf("it has %s packed; at most %d MB are handed over", size(int64(len(archive))), mostParts*partOfRun>>20)
	}
	for n := range a.Parts {
		part := archive[n*partOfRun : min(len(archive), (n+1)*partOfRun)]
		err := l.persist(ctx, func(ctx context.Context) error {
			_, err := l.js.Publish(ctx, a.part(campaign, n), part)
			return err
		})
		if err != nil && !isTaken(err) {
			return nil, full(err)
		}
	}
	return a, nil
}

// fetchRun fetches an archive, which is what its sum says.
func (l *Link) fetchRun(ctx context.Context, campaign string, a *Archive) ([]byte, error) {
	if a == nil {
		return nil, errors.New("its worker handed none over")
	}
	var archive bytes.Buffer
	for n := range a.Parts {
		var m *jetstream.RawStreamMsg
		err := l.persist(ctx, func(ctx context.Context) error {
			s, err := l.js.Stream(ctx, runStream)
			if err == nil {
				m, err = s.GetLastMsgForSubject(ctx, a.part(campaign, n))
			}
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("a part of it is not there: %w", err)
		}
		archive.Write(m.Data)
	}
	if sumOf(archive.Bytes()) != a.Sum {
		return nil, errors.New("it is not what its worker says that it is")
	}
	return archive.Bytes(), nil
}
