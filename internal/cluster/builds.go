package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/nats-io/nats.go/jetstream"

	"zitherwheel/internal/pack"
)

// mostBuild is how large a build may be without a word of what belongs to it: a folder with more in it is
// rather one that was not meant.
const mostBuild = 512 << 20 // bytes, packed

// handOver packs a build and stores it under the sum of its content, unless it is there already.
func (l *Link) handOver(ctx context.Context, folder string, files []string) (c pack.Content, err error) {
	archive, err := os.CreateTemp("", "zwheel-build-")
	if err != nil {
		return c, err
	}
	defer os.Remove(archive.Name())
	defer archive.Close()
	if c, err = pack.Write(archive, folder, files); err != nil {
		return c, err
	}
	if c.Bytes > mostBuild && len(files) == 0 {
		return c, fmt.Errorf("%s has %s in it, packed; say under build: files: what belongs to the build", folder, size(c.Bytes))
	}
	store, err := l.js.ObjectStore(ctx, builds)
	if err != nil {
		return c, err
	}
	if _, err := store.GetInfo(ctx, c.Sum); err == nil {
		return c, nil
	} else if !errors.Is(err, jetstream.ErrObjectNotFound) {
		return c, err
	}
	if _, err := archive.Seek(0, io.SeekStart); err != nil {
		return c, err
	}
	if _, err := store.Put(ctx, jetstream.ObjectMeta{Name: c.Sum}, archive); err != nil {
		return c, fmt.Errorf("the build of %s cannot be handed to the broker: %w", size(c.Bytes), err)
	}
	return c, nil
}

func size(bytes int64) string {
	if bytes < 1<<20 {
		return fmt.Sprintf("%.0f kB", float64(max(bytes, 1000))/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(bytes)/1e6)
}
