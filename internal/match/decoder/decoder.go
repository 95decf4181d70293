// Package decoder says what packets of a build carry, by a function in Starlark that whoever knows
// the protocol has written (docs/hunting.md): bytes and direction in, a line of text out.
//
// A script can do nothing else: there are no files, no time and no network for it, and what takes
// too long is ended.
package decoder

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"strings"
	"sync"

	"go.starlark.net/lib/json"
	starmath "go.starlark.net/lib/math"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"zitherwheel/internal/network/link"
)

// Decoder decodes packets. It is safe for concurrent use.
type Decoder struct {
	mu   sync.Mutex
	call starlark.Callable
	path string
}

// function is what a script must define.
const function = "decode"

// mostSteps is how much a script may do for one packet.
const mostSteps = 2_000_000

// Load reads a script.
func Load(path string) (*Decoder, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("build: decoder: %w", err)
	}
	thread := &starlark.Thread{Name: path}
	thread.SetMaxExecutionSteps(mostSteps)
	options := &syntax.FileOptions{Set: true, While: true, TopLevelControl: true}
	globals, err := starlark.ExecFileOptions(options, thread, path, text, starlark.StringDict{
		"json": json.Module, "math": starmath.Module, "number": starlark.NewBuiltin("number", number),
	})
	if err != nil {
		return nil, fmt.Errorf("build: decoder: %s", explained(err))
	}
	call, is := globals[function].(starlark.Callable)
	if !is {
		return nil, fmt.Errorf("build: decoder: %s defines no function %s(data, direction)", path, function)
	}
	globals.Freeze()
	return &Decoder{call: call, path: path}, nil
}

// Decode says what a packet carries; ok is false if the script returns None, because it does not
// know either. What goes wrong in the script is said in place of that.
func (d *Decoder) Decode(data []byte, direction link.Direction) (text string, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	thread := &starlark.Thread{Name: d.path}
	thread.SetMaxExecutionSteps(mostSteps)
	v, err := starlark.Call(thread, d.call, starlark.Tuple{starlark.Bytes(data), starlark.String(direction.String())}, nil)
	switch s, is := v.(starlark.String); {
	case err != nil:
		return "the decoder failed: " + explained(err), true
	case v == starlark.None:
		return "", false
	case is:
		return strings.ToValidUTF8(string(s), "?"), true
	}
	return fmt.Sprintf("the decoder returned %s and no text", v.Type()), true
}

// explained is an error of a script, with the line at which it happened.
func explained(err error) string {
	var failed *starlark.EvalError
	if errors.As(err, &failed) && len(failed.CallStack) > 0 {
		for i := len(failed.CallStack) - 1; i >= 0; i-- {
			if pos := failed.CallStack[i].Pos; pos.Line > 0 {
				return fmt.Sprintf("%s: %s", pos, failed.Msg)
			}
		}
	}
	return err.Error()
}

// number(data, at, kind) reads a number from bytes: u8, i8, and u16, i16, u32, i32, u64, i64, f32 and f64 with
// "le" or "be" behind for the order of their bytes. It is None where the data end before.
func number(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var data starlark.Bytes
	var at int
	var kind string
	if err := starlark.UnpackArgs(b.Name(), args, kwargs, "data", &data, "at", &at, "kind", &kind); err != nil {
		return nil, err
	}
	var order binary.ByteOrder = binary.LittleEndian
	short := strings.TrimSuffix(kind, "le")
	if big, is := strings.CutSuffix(kind, "be"); is {
		order, short = binary.BigEndian, big
	}
	size := map[string]int{"u8": 1, "i8": 1, "u16": 2, "i16": 2, "u32": 4, "i32": 4, "u64": 8, "i64": 8, "f32": 4, "f64": 8}[short]
	switch {
	case size == 0 || size > 1 && short == kind:
		return nil, fmt.Errorf("number: there is no kind %q; write u8, i8, or u16, i16, u32, i32, u64, i64, f32 or f64 with le or be behind it", kind)
	case at < 0 || at+size > len(data):
		return starlark.None, nil
	}
	bytes := []byte(data[at : at+size])
	switch short {
	case "u8":
		return starlark.MakeInt(int(bytes[0])), nil
	case "i8":
		return starlark.MakeInt(int(int8(bytes[0]))), nil
	case "u16":
		return starlark.MakeInt(int(order.Uint16(bytes))), nil
	case "i16":
		return starlark.MakeInt(int(int16(order.Uint16(bytes)))), nil
	case "u32":
		return starlark.MakeUint64(uint64(order.Uint32(bytes))), nil
	case "i32":
		return starlark.MakeInt(int(int32(order.Uint32(bytes)))), nil
	case "u64":
		return starlark.MakeUint64(order.Uint64(bytes)), nil
	case "i64":
		return starlark.MakeInt64(int64(order.Uint64(bytes))), nil
	case "f32":
		return starlark.Float(math.Float32frombits(order.Uint32(bytes))), nil
	}
	return starlark.Float(math.Float64frombits(order.Uint64(bytes))), nil
}
