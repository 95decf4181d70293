package replay

// What the tests on the wall clock need, which stand outside of the package because they
// play the program itself.
var (
	Record = record
	Head   = head
	Shows  = (*Lab).shows
	Repeat = (*Lab).repeat
)
