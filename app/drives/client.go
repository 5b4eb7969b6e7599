package drives

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/block"
	"jadetrail/core/form"
)

// Client asks the helper at a socket, and has what it opened until it lets go of all, or its program ends.
type Client struct {
	Socket string

	mu   sync.Mutex
	held []*net.UnixConn
}

// OpenPath opens the drive at a path as it is now.
func (c *Client) OpenPath(path string, write bool) (*os.File, error) {
	d, err := block.Host{}.Drive(path)
	if err != nil {
		return nil, err
	}
	return c.Open(d, write)
}

// Open has the helper open a drive that was looked at. Another that has its name by now is not opened.
func (c *Client) Open(d *block.Drive, write bool) (*os.File, error) {
	line, err := json.Marshal(Request{Version: 1, Name: d.Name, Sequence: d.Sequence, Write: write})
	if err != nil {
		return nil, err
	}
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: c.Socket, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("the helper that opens drives cannot be reached: %w", err)
	}
	conn.SetDeadline(time.Now().Add(2 * patience))
	var f *os.File
	if _, err = conn.Write(append(line, '\n')); err == nil {
		f, err = answered(conn)
	}
	if err == nil && f == nil {
		err = errors.New("the helper handed nothing over")
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held = append(c.held, conn)
	return f, nil
}

// Release lets go of all drives, and waits until the helper has done so.
func (c *Client) Release() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out error
	for _, conn := range c.held {
		conn.SetDeadline(time.Now().Add(2 * patience))
		err := conn.CloseWrite()
		if err == nil {
			_, err = answered(conn)
		}
		out = errors.Join(out, err, conn.Close())
	}
	c.held = nil
	return out
}

// answered reads an answer, which is an error where the helper says why not, and the file that came with it.
func answered(conn *net.UnixConn) (*os.File, error) {
	b, f, err := receive(conn)
	if err != nil {
		return nil, err
	}
	var a Answer
	if err = form.ReadOf(b, &a); err == nil {
		err = a.refused()
	}
	if err != nil && f != nil {
		f.Close()
		f = nil
	}
	return f, err
}

// receive reads an answer up to its line's end, and the file that came with it, if one did.
func receive(conn *net.UnixConn) (all []byte, f *os.File, err error) {
	part, rights := make([]byte, maxLine), make([]byte, unix.CmsgSpace(4))
	for err == nil && !bytes.HasSuffix(all, []byte{'\n'}) {
		var n, k int
		n, k, _, _, err = conn.ReadMsgUnix(part, rights)
		if err == nil && k > 0 && f == nil {
			f, err = handed(rights[:k])
		}
		if all = append(all, part[:n]...); err == nil && (n == 0 || len(all) > maxLine) {
			err = errors.New("the answer of the helper does not end")
		}
	}
	if err != nil && f != nil {
		f.Close()
		f = nil
	}
	return bytes.TrimSpace(all), f, err
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
