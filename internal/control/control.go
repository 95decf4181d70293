// Package control is the control lines by which a bot drives a client: JSON Lines, to
// the program. docs/driving.md specifies them.
package control

import (
	"encoding/json"
	"fmt"
)

// Version of the control lines.
const Version = 1

// What a line tells a program to do.
const (
	Hello = "hello" // the first line: who drives it
	Join  = "join"  // ask to be let in
	Input = "input" // from now on, until the next one
	Press = "press" // once
	Set   = "set"   // change something behind the game's back: cheat
	Leave = "leave" // say goodbye
	Stop  = "stop"  // end the program
)

// Line is one control line.
type Line struct {
	Do string `json:"do"`

	Version int    `json:"driving,omitempty"` // hello
	Name    string `json:"name,omitempty"`    // hello: the player's
	Seed    uint64 `json:"seed,omitempty"`    // hello

	Seq  uint64   `json:"seq,omitempty"`  // input, press: counts them from 1
	Move float64  `json:"move,omitempty"` // input: 0 stands, 1 goes ahead as fast as keys can
	Turn float64  `json:"turn,omitempty"` // input: -1 hard right to 1 hard left
	Run  bool     `json:"run,omitempty"`  // input
	Hold []string `json:"hold,omitempty"` // input: keys held down, by the names of the plan

	Input string `json:"input,omitempty"` // press: by the name of the plan

	What string    `json:"what,omitempty"` // set
	To   []float64 `json:"to,omitempty"`   // set
}

// Encode writes a line, without its end.
func (l Line) Encode() []byte {
	text, err := json.Marshal(l)
	if err != nil { // only a number that is none does not marshal
		text, _ = json.Marshal(Line{Do: l.Do, Seq: l.Seq, Hold: l.Hold})
	}
	return text
}

// Parse reads a line.
func Parse(text []byte) (Line, error) {
	var l Line
	if err := json.Unmarshal(text, &l); err != nil {
		return l, fmt.Errorf("no control line: %w", err)
	}
	if l.Do == "" {
		return l, fmt.Errorf("no control line: it has no key do")
	}
	return l, nil
}
