// Package internal has no code of its own: its folders are the rooms of the program, which
// docs/architecture.md draws, and its test holds their order.
package internal
