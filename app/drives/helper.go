package drives

import (
	"bufio"
	"context"
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

	mu     sync.Mutex
	claims map[string]*block.Claims // by the sequences of the drives
}

// atOnce is how many are served at the same time, patience how long one may take to say what it wants.
const (
	atOnce   = 16
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

// Serve answers until ctx ends, and lets go of all drives then.
func (h *Helper) Serve(ctx context.Context, l *net.UnixListener) error {
	defer h.releaseAll()
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
			h.answer(c)
		})
	}
}

// answer reads one request and answers it.
func (h *Helper) answer(c *net.UnixConn) {
	c.SetDeadline(time.Now().Add(patience))
	var file *os.File
	var a Answer
	r, err := h.request(c)
	if err == nil {
		a, file, err = h.do(r)
	}
	if err != nil {
		a = refusal(err)
		h.Log.Warn("refused", "why", err)
	}
	line, err := a.line()
	if err != nil {
		h.Log.Error("not answered", "why", err)
		return
	}
	var rights []byte
	if file != nil {
		defer file.Close()
		rights = unix.UnixRights(int(file.Fd()))
	}
	n, _, err := c.WriteMsgUnix(line, rights, nil)
	if err == nil && n < len(line) { // the rights went with the first part
		_, err = c.Write(line[n:])
	}
	if err != nil {
		h.Log.Warn("not answered", "why", err)
	}
}

// request is what somebody asks for who may.
func (h *Helper) request(c *net.UnixConn) (*Request, error) {
	who, err := peer(c)
	if err != nil {
		return nil, err
	}
	if who != h.User {
		return nil, fmt.Errorf("%w: account %d may not ask", ErrRequest, who)
	}
	line, err := bufio.NewReader(io.LimitReader(c, maxRequest+1)).ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("%w: it does not end: %w", ErrRequest, err)
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

func (h *Helper) do(r *Request) (Answer, *os.File, error) {
	done := Answer{Version: 1}
	if r.Do == "list" {
		all, err := h.Host.Drives()
		for _, d := range all {
			done.Drives = append(done.Drives, Listed{d, len(d.Own) == 0 && h.Rules.Allows(&d)})
		}
		return done, nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if r.Do == "release" {
		has := h.claims[r.Sequence]
		if has == nil {
			return done, nil, nil
		}
		delete(h.claims, r.Sequence)
		return done, nil, has.Release()
	}
	d, err := h.Host.Drive("/dev/" + r.Name)
	switch {
	case err != nil:
		return done, nil, err
	case d.Name != r.Name, d.Sequence != r.Sequence:
		return done, nil, fmt.Errorf("%s: %w", d.Path(), block.ErrOther)
	case !h.Rules.Allows(d):
		return done, nil, fmt.Errorf("%s: %w", d.Path(), ErrNotAllowed)
	}
	has := h.claims[r.Sequence]
	if has == nil {
		has = &block.Claims{Host: h.Host}
	}
	f, err := has.Open(d, r.Write)
	if err != nil {
		return done, nil, err
	}
	if h.claims == nil {
		h.claims = map[string]*block.Claims{}
	}
	h.claims[r.Sequence] = has
	h.Log.Info("opened", "drive", d.Path(), "serial", d.Serial, "write", r.Write)
	return done, f, nil
}

func (h *Helper) releaseAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, has := range h.claims {
		if err := has.Release(); err != nil {
			h.Log.Warn("not all was put in order", "why", err)
		}
	}
	clear(h.claims)
}
