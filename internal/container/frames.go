package container

import (
	"encoding/binary"
	"fmt"
	"io"
)

// frames takes an attached stream apart (the Docker Engine API, "Attach to a container", "Stream
// format"): a head of eight bytes with the stream and the length of what follows. It holds
// nothing: the library's own reader makes room for any length that a head says, up to 4 GB.
func frames(from io.Reader, out, errors io.Writer) error {
	var head [8]byte
	for {
		if _, err := io.ReadFull(from, head[:]); err != nil {
			return err
		}
		to := out
		switch head[0] {
		case 0, 1:
		case 2:
			to = errors
		default:
			return fmt.Errorf("a frame of the kind %d", head[0])
		}
		if _, err := io.CopyN(to, from, int64(binary.BigEndian.Uint32(head[4:]))); err != nil {
			return err
		}
	}
}
