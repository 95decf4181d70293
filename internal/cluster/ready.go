package cluster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
)

// ready is the plan of a batch, with its build in place.
func (w *Worker) ready(ctx context.Context, b *batch) (*plan.Plan, error) {
	w.fetching.Lock()
	defer w.fetching.Unlock()
	key := b.Plan
	if b.Build != nil {
		key += b.Build.Sum
	}
	if p := w.plans[key]; p != nil {
		return p, nil
	}
	text, err := w.fetched(ctx, b.Plan)
	if err != nil {
		return nil, err
	}
	p, err := plan.Parse("plan.yaml", text)
	if err != nil {
		return nil, err
	}
	if p.Build.Given() {
		if b.Build == nil {
			return nil, errors.New("its plan has a build, and none was handed over")
		}
		if p.Build.Folder, err = w.build(ctx, *b.Build); err != nil {
			return nil, err
		}
		if w.MemoryMB > 0 && (p.Build.MemoryMB == 0 || p.Build.MemoryMB > w.MemoryMB) {
			p.Build.MemoryMB = w.MemoryMB
		}
	}
	if p.ByPrograms() && p.Clock == plan.Virtual && !w.Virtual {
		return nil, errors.New("builds cannot be played on the virtual clock here; zwheel machine says why")
	}
	for _, program := range []plan.Program{p.Build.Server, p.Build.Client, p.Build.Host} {
		if len(program.Run) > 0 && !strings.HasPrefix(program.Run[0], "{") {
			if _, err := process.Find(program.Run[0], p.Build.Folder); err != nil {
				return nil, fmt.Errorf("%s: %w", program.Run[0], err)
			}
		}
	}
	if len(w.plans) >= plansKept {
		clear(w.plans)
	}
	w.plans[key] = p
	return p, nil
}

// fetched is what was stored under a sum.
func (w *Worker) fetched(ctx context.Context, sum string) ([]byte, error) {
	kv, err := w.link.bucket(ctx, plans)
	if err != nil {
		return nil, err
	}
	entry, err := kv.Get(ctx, sum)
	if err != nil {
		return nil, fmt.Errorf("its plan is not there: %w", err)
	}
	if sumOf(entry.Value()) != sum {
		return nil, errors.New("its plan is not the one that was asked for")
	}
	return entry.Value(), nil
}

// build is the folder of a build, which is fetched if it is not there yet.
func (w *Worker) build(ctx context.Context, c pack.Content) (string, error) {
	folder := filepath.Join(w.Folder, "builds", c.Sum)
	if _, err := os.Stat(folder); err == nil {
		return folder, nil
	}
	store, err := w.link.js.ObjectStore(ctx, builds)
	if err != nil {
		return "", err
	}
	w.tell("it fetches a build of %d files, %s", c.Files, size(c.Bytes))
	archive, err := os.CreateTemp(filepath.Join(w.Folder, "work"), "build-")
	if err != nil {
		return "", err
	}
	archive.Close()
	defer os.Remove(archive.Name())
	if err := store.GetFile(ctx, c.Sum, archive.Name()); err != nil {
		return "", fmt.Errorf("its build is not there: %w", err)
	}
	if sum, _, err := pack.FileSum(archive.Name()); err != nil || sum != c.Sum {
		return "", errors.Join(errors.New("its build is not the one that was asked for"), err)
	}
	file, err := os.Open(archive.Name())
	if err != nil {
		return "", err
	}
	defer file.Close()
	partly := folder + ".part"
	if err := os.RemoveAll(partly); err != nil {
		return "", err
	}
	if err := pack.Extract(file, partly, pack.Usual); err != nil {
		return "", errors.Join(err, os.RemoveAll(partly))
	}
	return folder, os.Rename(partly, folder)
}
