package drives

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/block"
)

// Helper opens drives for one account.
type Helper struct {
	Host  block.Host
	Rules *Rules
	User  uint32 // the account that may ask
	Log   *slog.Logger

	mu   sync.Mutex
	held map[string]*hold // by the sequences of the drives
}

// hold is a drive that is had by so many connections.
type hold struct {
	claims block.Claims
	by     int
}

// atOnce is how many connections there may be, patience how long one may take to say what it wants.
const (
	atOnce   = 128
	patience = 5 * time.Second
)

// Listen makes the socket of a helper, which one account alone may use. A socket that was left there by one that ended
// is replaced; one at which somebody answers is not.
func Listen(socket string, account uint32) (*net.UnixListener, error) {
	if c, err := net.Dial("unix", socket); err == nil {
		c.Close()
		return nil, fmt.Errorf("%s: another helper answers there", socket)
	}
	if st, err := os.Lstat(socket); err == nil {
		if st.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("%s is there, and is no socket", socket)
		}
		if err := os.Remove(socket); err != nil {
			return nil, err
		}
	}
	old := unix.Umask(0o177) // never open to others, not for a moment
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: socket, Net: "unix"})
	unix.Umask(old)
	if err != nil {
		return nil, err
	}
	if err := os.Chown(socket, int(account), -1); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Serve answers until ctx ends. A drive is had as long as a connection that asked for it stands: who ends in whatever
// way, and the helper itself, lets go of it.
func (h *Helper) Serve(ctx context.Context, l *net.UnixListener) error {
	defer context.AfterFunc(ctx, func() { l.Close() })()
	turns := make(chan struct{}, atOnce)
	var all sync.WaitGroup
	defer all.Wait()
	for {
		turns <- struct{}{}
		c, err := l.AcceptUnix()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		all.Go(func() {
			defer func() { <-turns }()
			defer c.Close()
			h.serve(ctx, c)
		})
	}
}

// serve opens the drive that a connection asks for, and lets go of it when the connection is closed.
func (h *Helper) serve(ctx context.Context, c *net.UnixConn) {
	c.SetDeadline(time.Now().Add(patience))
	r, err := h.request(c)
	var file *os.File
	if err == nil {
		file, err = h.open(r)
	}
	if err != nil {
		h.answer(c, err, nil)
		return
	}
	h.answer(c, nil, file)
	file.Close()
	c.SetDeadline(time.Time{})
	stop := context.AfterFunc(ctx, func() { c.SetReadDeadline(time.Now()) })
	c.Read(make([]byte, 1)) // until it is closed; nothing more is to be said
	stop()
	c.SetDeadline(time.Now().Add(patience))
	h.answer(c, h.release(r), nil)
}

// answer says what became of a request, and hands a file over with it.
func (h *Helper) answer(c *net.UnixConn, why error, file *os.File) {
	a := Answer{Version: 1}
	if why != nil {
		a = refusal(why)
		h.Log.Warn("not done", "why", why)
	}
	line, err := json.Marshal(a)
	if err == nil {
		var rights []byte
		if file != nil {
			rights = unix.UnixRights(int(file.Fd()))
		}
		_, _, err = c.WriteMsgUnix(append(line, '\n'), rights, nil)
	}
	if err != nil {
		h.Log.Debug("nobody hears the answer", "why", err)
	}
}

// request is what somebody asks for who may. It is read first, so that the refusal is heard.
func (h *Helper) request(c *net.UnixConn) (*Request, error) {
	line, err := bufio.NewReader(io.LimitReader(c, maxLine+1)).ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("%w: it does not end: %w", ErrRequest, err)
	}
	who, err := peer(c)
	if err != nil {
		return nil, err
	}
	if who != h.User {
		return nil, fmt.Errorf("%w: account %d may not ask", ErrRequest, who)
	}
	return ParseRequest(line)
}

// peer is the account of whoever is at the other end, as the kernel knows it (unix(7), SO_PEERCRED).
func peer(c *net.UnixConn) (uint32, error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	var asked error
	if err := raw.Control(func(fd uintptr) {
		cred, asked = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil || asked != nil {
		return 0, errors.Join(err, asked)
	}
	return cred.Uid, nil
}

// open opens a drive for a request, and counts it as had once more.
func (h *Helper) open(r *Request) (*os.File, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	d, err := h.Host.Drive("/dev/" + r.Name)
	switch {
	case err != nil:
		return nil, err
	case d.Name != r.Name, d.Sequence != r.Sequence:
		return nil, fmt.Errorf("%s: %w", d.Path(), block.ErrOther)
	case !h.Rules.Allows(d):
		return nil, fmt.Errorf("%s: %w", d.Path(), ErrNotAllowed)
	}
	has := h.held[r.Sequence]
	if has == nil {
		has = &hold{claims: block.Claims{Host: h.Host}}
	}
	f, err := has.claims.Open(d, r.Write)
	if err != nil {
		if has.by == 0 {
			err = errors.Join(err, has.claims.Release())
		}
		return nil, err
	}
	if h.held == nil {
		h.held = map[string]*hold{}
	}
	has.by++
	h.held[r.Sequence] = has
	h.Log.Info("opened", "drive", d.Path(), "serial", d.Serial, "write", r.Write)
	return f, nil
}

// release counts a drive as had once less, and lets go of it when nobody has it any more.
func (h *Helper) release(r *Request) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	has := h.held[r.Sequence]
	if has.by--; has.by > 0 {
		return nil
	}
	delete(h.held, r.Sequence)
	h.Log.Info("let go", "drive", r.Name)
	return has.claims.Release()
}
