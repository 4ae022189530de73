package connect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os/exec"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"welkin/core/step"
)

var _ step.Programs = (*World)(nil)

// Programs implements step.Programs.
func (w *World) Programs() []string { return slices.Sorted(maps.Keys(w.Allowed)) }

// tail keeps the last bytes written.
type tail struct{ bytes.Buffer }

const tailSize = 2000

func (t *tail) Write(p []byte) (int, error) {
	t.Buffer.Write(p)
	if over := t.Len() - tailSize; over > 0 {
		t.Next(over)
	}
	return len(p), nil
}

// RunProgram implements step.Programs. The program gets an empty environment, and
// is ended when its time is over; its memory is bounded by the system.
func (w *World) RunProgram(ctx context.Context, name string, limits step.ProgramLimits, in io.Reader, out io.Writer) error {
	command, ok := w.Allowed[name]
	if !ok || len(command) == 0 {
		return fmt.Errorf("the program %q is not allowed", name)
	}
	ctx, cancel := context.WithTimeout(ctx, limits.Time)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	var said tail
	cmd.Stdout, cmd.Stderr = out, &said
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8"}
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the program %s: %w", name, err)
	}
	most := uint64(limits.Memory)
	if err := unix.Prlimit(cmd.Process.Pid, unix.RLIMIT_AS, &unix.Rlimit{Cur: most, Max: most}, nil); err != nil && !errors.Is(err, unix.ESRCH) {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		return fmt.Errorf("bounding the memory of the program %s: %w", name, err)
	}
	go func() { // not by cmd.Stdin: Wait would then wait for rows that a dead program can't read
		_, _ = io.Copy(stdin, in)
		_ = stdin.Close()
	}()
	err = cmd.Wait()
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("the program %s took longer than its %s", name, limits.Time)
	case err != nil:
		words := strings.TrimSpace(said.String())
		if words != "" {
			words = "; it said: " + words
		}
		return fmt.Errorf("the program %s failed (%w)%s", name, err, words)
	}
	return nil
}
