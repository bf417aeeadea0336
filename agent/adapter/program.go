package adapter

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"
)

// Run runs a program of the machine, for a minute at most, and gives what it says. The error is an exec.ErrNotFound where
// it is not installed. systemctl is of no use where systemd does not run.
func Run(name string, arguments ...string) (said string, err error) {
	if _, err := exec.LookPath(name); err != nil {
		return "", err
	}
	if _, err := os.Stat("/run/systemd/system"); err != nil && name == "systemctl" {
		return "", exec.ErrNotFound
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var out, faults strings.Builder
	c := exec.CommandContext(ctx, name, arguments...)
	c.Stdout, c.Stderr = &out, &faults
	if err := c.Run(); err != nil {
		return "", fmt.Errorf("%s %v: %w: %.300s", name, arguments, err, faults.String()+out.String())
	}
	return out.String(), nil
}
