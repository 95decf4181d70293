// Package examples holds plans to start from. The demo plays two of them.
package examples

import _ "embed"

//go:embed healthy.yaml
var Healthy []byte

//go:embed lost-goodbye.yaml
var LostGoodbye []byte

//go:embed kept-to-itself.yaml
var KeptToItself []byte
