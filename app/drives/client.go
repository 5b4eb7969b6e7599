package drives

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/block"
	"jadetrail/core/form"
)

// Client asks the helper at a socket.
type Client struct{ Socket string }

// Drives are the drives of the machine, and which of them may be opened.
func (c Client) Drives() ([]Listed, error) {
	a, f, err := c.ask(Request{Version: 1, Do: "list"})
	if err != nil {
		return nil, err
	}
	if f != nil {
		f.Close()
	}
	return a.Drives, nil
}

// Open has the helper open a drive that was looked at. Another that has its name by now is not opened.
func (c Client) Open(d *block.Drive, write bool) (*os.File, error) {
	_, f, err := c.ask(Request{Version: 1, Do: "open", Name: d.Name, Sequence: d.Sequence, Write: write})
	if err == nil && f == nil {
		err = errors.New("the helper handed nothing over")
	}
	return f, err
}

// OpenPath opens the drive at a path as it is now.
func (c Client) OpenPath(path string, write bool) (*os.File, error) {
	d, err := block.Host{}.Drive(path)
	if err != nil {
		return nil, err
	}
	return c.Open(d, write)
}

// Release has the helper let go of a drive.
func (c Client) Release(d *block.Drive) error {
	_, _, err := c.ask(Request{Version: 1, Do: "release", Name: d.Name, Sequence: d.Sequence})
	return err
}

// ask sends a request and returns what was answered, with the file that came along.
func (c Client) ask(r Request) (*Answer, *os.File, error) {
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: c.Socket, Net: "unix"})
	if err != nil {
		return nil, nil, fmt.Errorf("the helper that opens drives cannot be reached: %w", err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(2 * patience))
	line, err := json.Marshal(r)
	if err != nil {
		return nil, nil, err
	}
	if _, err := conn.Write(append(line, '\n')); err != nil {
		return nil, nil, err
	}
	b, f, err := receive(conn)
	if err != nil {
		return nil, nil, err
	}
	var a Answer
	if err = form.ReadOf(b, &a); err == nil {
		err = a.refused()
	}
	if err != nil && f != nil {
		f.Close()
		f = nil
	}
	return &a, f, err
}

// receive reads an answer up to its line's end, and the file that came with it, if one did.
func receive(conn *net.UnixConn) (all []byte, f *os.File, err error) {
	part, rights := make([]byte, 64<<10), make([]byte, unix.CmsgSpace(4))
	for len(all) == 0 || all[len(all)-1] != '\n' {
		n, k, _, _, err := conn.ReadMsgUnix(part, rights)
		if f == nil && k > 0 {
			f, err = handed(rights[:k])
		}
		if err == nil && n == 0 || len(all)+n > maxAnswer {
			err = errors.New("the answer of the helper does not end")
		}
		if err != nil {
			if f != nil {
				f.Close()
			}
			return nil, nil, err
		}
		all = append(all, part[:n]...)
	}
	return bytes.TrimSpace(all), f, nil
}

// handed is the file that was handed over.
func handed(rights []byte) (*os.File, error) {
	list, err := unix.ParseSocketControlMessage(rights)
	if err == nil && (len(list) != 1 || len(list[0].Data) != 4) { // one number, of four bytes
		err = errors.New("it is something else")
	}
	var fds []int
	if err == nil {
		fds, err = unix.ParseUnixRights(&list[0])
	}
	if err != nil {
		return nil, fmt.Errorf("what was handed over is not one file: %w", err)
	}
	unix.CloseOnExec(fds[0])
	return os.NewFile(uintptr(fds[0]), "drive"), nil
}
