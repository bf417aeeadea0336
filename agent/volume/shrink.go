// This file makes room for the header of a volume that is encrypted in place.

package volume

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
)

// shrink makes the file system of a volume smaller by the room that the header takes. What fits already stays as it is.
func shrink(ctx context.Context, path string) error {
	size, err := sizeOf(path)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, "e2fsck", "-f", "-p", path)
	if _, err := execute(c, nil); err != nil && c.ProcessState.ExitCode() > 1 { // 1: what was wrong is mended
		return fmt.Errorf("the file system of the volume is not in order, or of another kind than ext2 to ext4: %w", err)
	}
	_, err = execute(exec.CommandContext(ctx, "resize2fs", path, fmt.Sprintf("%dK", (size-headerRoom)/1024)), nil)
	return err
}

func sizeOf(path string) (int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return f.Seek(0, io.SeekEnd)
}
