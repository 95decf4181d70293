package build

import "os/exec"

func detach(*exec.Cmd) {}
