package judge

// Kind names what sort of disagreement a finding is. docs/findings.md says what
// each means and how it is decided.
type Kind string

const (
	Missing            Kind = "missing"          // the reference has the entity, the view does not
	Ghost              Kind = "ghost"            // the view has an entity that the reference does not
	DuplicateEntity    Kind = "duplicate-entity" // one entity twice
	OtherID            Kind = "other-id"         // the same entity under another id
	NotOne             Kind = "not-one"          // a unique entity absent or double
	Frozen             Kind = "frozen"           // the view stays at an old value of the reference
	NeverSent          Kind = "never-sent"       // the view changed it, the reference never did
	NeverArrived       Kind = "never-arrived"    // the reference changed it, the view never did, though it hears the rest
	Skipped            Kind = "skipped"          // the view went past a value that stood long enough
	OutOfOrder         Kind = "out-of-order"     // the view went back to an older value
	Overflow           Kind = "overflow"         // a number off by 2^8, 2^16 or 2^32 of its steps
	Quantised          Kind = "quantised"        // a lattice wider than the tolerance
	Inverted           Kind = "inverted"         // a flag with the opposite value
	Scaled             Kind = "scaled"           // a number times a factor
	Rate               Kind = "rate"             // it runs k times too fast
	Late               Kind = "late"             // everything is right and too late
	ClockShift         Kind = "clock"            // what follows from the clock is early or late
	Creeping           Kind = "creeping-clock"   // it gets later and later, or earlier
	Mirrored           Kind = "mirrored"         // a coordinate has the other sign
	Swapped            Kind = "swapped"          // coordinates are in one another's place
	Clamped            Kind = "clamped"          // it stops at a limit
	Noisy              Kind = "noisy"            // it is scattered about the right place
	Drift              Kind = "drift"            // the gap grows
	Doubled            Kind = "doubled"          // a change applied k times
	SplitOwner         Kind = "split-owner"      // the view believes it owns what another owns
	NoOwner            Kind = "no-owner"         // the view does not know that it owns
	InputLeak          Kind = "input-leak"       // it moves with the view's own entity
	Unvalidated        Kind = "unvalidated"      // the reference took an impossible value from a view
	EventLost          Kind = "event-lost"
	EventRepeated      Kind = "event-repeated"
	EventLate          Kind = "event-late"
	EventUnexpected    Kind = "event-unexpected"
	EventMisorder      Kind = "event-misordered"
	RejectedButPlaying Kind = "rejected-but-playing" // the view thinks it is in and is not
	NotRefused         Kind = "not-refused"          // who must be refused was not, or was not told
	LeftBehind         Kind = "left-behind"          // what stood before the view came never reached it
	OutcomeDiffer      Kind = "outcome"              // final results differ
	Broken             Kind = "broken-sequence"      // a step of a chain never came
	InvariantBroken    Kind = "invariant-broken"     // an invariant did not hold
	Crashed            Kind = "crashed"              // a program of the match ended by itself
	Jerky              Kind = "jerky"                // a limit on how smoothly entities move
	OverLimit          Kind = "limit"                // any other limit
	Count              Kind = "count"                // it happened too often or too seldom
	Effect             Kind = "wrong-effect"         // a number did not change at an event as it must
	LogBroken          Kind = "log"                  // a rule about the lines of a log was not kept
	ChecksumDiffers    Kind = "checksum"             // a checksum of the state differs
	Teleports          Kind = "teleports"            // it leaps away and back, again and again
	Offset             Kind = "offset"               // it is off by the same all the time
	NoRelation         Kind = "differs"              // the values differ, in no simple relation
)

// Kinds are all of them.
var Kinds = []Kind{
	Missing, Ghost, DuplicateEntity, OtherID, NotOne, Frozen, NeverSent, NeverArrived, Skipped, OutOfOrder, Overflow,
	Quantised, Inverted, Scaled, Rate, Late, ClockShift, Creeping, Mirrored, Swapped, Clamped, Noisy, Drift, Doubled,
	SplitOwner, NoOwner, InputLeak, Unvalidated, EventLost, EventRepeated, EventLate, EventUnexpected, EventMisorder,
	RejectedButPlaying, NotRefused, LeftBehind, OutcomeDiffer, Broken, InvariantBroken, Crashed, Jerky, OverLimit,
	Count, Effect, LogBroken, ChecksumDiffers, Teleports, Offset, NoRelation,
}
