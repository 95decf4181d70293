package played

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/version"
)

// Identity is what a match is known by: all that decides how it goes and what is said of it. Two matches with one key
// are the same match, on the virtual clock to the byte, so what is known of one is known of the other; with different
// keys nothing of one says anything of the other.
type Identity struct {
	Plan    string // sum of the plan as YAML, with its programs' environment, without seed and place of the build
	Build   string // sum of the files of the build, programs and what lies beside them; "" of the demo game
	Variant string // sum of how a variant differs from the plan, or ""
	Judge   string // version of this program, which plays and judges
	Seed    uint64
}

// IdentityOf is the identity of a match as its plan has it, and the files of its build.
func IdentityOf(p *plan.Plan) (Identity, pack.Sums, error) {
	of := Identity{Judge: version.String(), Seed: p.Seed}
	var files pack.Sums
	if p.Build.Given() {
		var err error
		if files, err = pack.SumsOf(p.Build.Folder, p.Build.Files); err != nil {
			return of, nil, fmt.Errorf("the files of the build: %w", err)
		}
		of.Build = files.Sum()
	}
	anywhere := *p
	anywhere.Seed, anywhere.Build.Folder = 0, ""
	text, err := anywhere.YAML()
	if err != nil {
		return of, nil, err
	}
	sum := sha256.Sum256(text)
	of.Plan = hex.EncodeToString(sum[:])
	return of, files, nil
}

// Key is the identity in 32 hexadecimal digits.
func (i Identity) Key() string {
	text := fmt.Appendf(nil, "plan %s\nbuild %s\nvariant %s\njudge %q\nseed %d\n", i.Plan, i.Build, i.Variant, i.Judge, i.Seed)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16])
}
