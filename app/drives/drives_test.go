package drives

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/block"
	"jadetrail/core/disk"
	"jadetrail/core/sample/loop"
)

// helped starts a helper with rules, for an account.
func helped(t *testing.T, rules string, account uint32) *Client {
	t.Helper()
	r, err := ParseRules([]byte(rules))
	if err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(t.TempDir(), "drives")
	l, err := Listen(socket, uint32(os.Getuid()))
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		h := &Helper{Rules: r, User: account, Log: slog.New(slog.DiscardHandler)}
		ended <- h.Serve(ctx, l)
	}()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	return &Client{Socket: socket}
}

func me() uint32 { return uint32(os.Getuid()) }

func image(t *testing.T, size int) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "drive.img")
	if err := os.WriteFile(path, make([]byte, size), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestRules(t *testing.T) {
	stick := block.Drive{Bus: "usb", Port: "pci-0000:00:14.0-usb-0:2:1.0", Serial: "PS-0042", Bytes: 16e9}
	for rule, allows := range map[string]bool{
		`{"bus": "usb"}`: true, `{"bus": "nvme"}`: false, `{"serial": "PS-0042"}`: true, `{"serial": "PS-004"}`: false,
		`{"port": "pci-0000:00:14.0-usb-*"}`: true, `{"port": "pci-0000:00:14.0-usb-"}`: false,
		`{"most": "16 GB"}`: true, `{"most": "15 GB"}`: false,
		`{"least": "20 GB"}`: false, `{"bus": "usb", "serial": "other"}`: false,
	} {
		r, err := ParseRules([]byte(`{"version": 1, "allow": [` + rule + `]}`))
		if err != nil || r.Allows(&stick) != allows {
			t.Errorf("%s: %v, wanted %v", rule, err, allows)
		}
	}
	for _, wrong := range []string{
		`{"version": 1, "allow": [{}]}`, `{"version": 2, "allow": []}`, `{"version": 1, "allow": [{"port": "[a"}]}`,
		`{"version": 1, "allow": [{"most": "much"}]}`, `{"version": 1, "allow": [{"most": "half"}]}`,
		`{"version": 1, "allow": [{"any": true}]}`, ``,
	} {
		if _, err := ParseRules([]byte(wrong)); err == nil {
			t.Errorf("%s is taken", wrong)
		}
	}
	if none, err := ParseRules([]byte(`{"version": 1, "allow": []}`)); err != nil || none.Allows(&stick) {
		t.Errorf("no rule allows a drive: %v", err)
	}
}

// TestHandedOver opens a drive through the helper: what is written goes onto it, it is had alone, and only what a rule
// names and is the drive that was looked at.
func TestHandedOver(t *testing.T) {
	small, large := image(t, 4<<20), image(t, 8<<20)
	at, other := loop.Attach(t, small, 512), loop.Attach(t, large, 512)
	c := helped(t, `{"version": 1, "allow": [{"bus": "loop", "most": "4 MiB"}]}`, me())
	f, err := c.OpenPath(at, true)
	if err != nil {
		t.Fatal(err)
	}
	im, err := disk.OpenDevice(f, true)
	if err != nil {
		t.Fatal(err)
	}
	text := []byte(strings.Repeat("jade trail", 51) + "12")
	if _, err := im.WriteAt(text, 512); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(im.Sync(), im.Close()); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(small); err != nil || string(b[512:][:len(text)]) != string(text) {
		t.Errorf("what was written is not there: %v", err)
	}
	d, err := block.Host{}.Drive(at)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := (block.Host{}).Claim(d); !errors.Is(err, block.ErrBusy) {
		t.Errorf("what the helper has is had by another too: %v", err)
	}
	read, err := c.Open(d, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := read.WriteAt(text, 0); err == nil {
		t.Error("what was opened for reading can be written to")
	}
	read.Close()
	if _, err := c.OpenPath(other, false); !errors.Is(err, ErrNotAllowed) {
		t.Errorf("a drive that no rule names is opened: %v", err)
	}
	before := *d
	before.Sequence += "0"
	if _, err := c.Open(&before, false); !errors.Is(err, block.ErrOther) {
		t.Errorf("another drive than was looked at is opened: %v", err)
	}
	// Another that has it too keeps it when the first lets go, or dies.
	second := &Client{Socket: c.Socket}
	if f, err := second.Open(d, false); err != nil {
		t.Fatal(err)
	} else {
		f.Close()
	}
	if err := c.Release(); err != nil {
		t.Fatal(err)
	}
	if _, err := (block.Host{}).Claim(d); !errors.Is(err, block.ErrBusy) {
		t.Errorf("what one of two has let go of is had by another: %v", err)
	}
	for _, conn := range second.held {
		conn.Close()
	}
	for range 200 {
		if f, err = (block.Host{}).Claim(d); err == nil {
			f.Close()
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("what nobody has any more is not to be had: %v", err)
}

// TestAttacks asks the helper for what must not be given: nothing is opened, and it goes on answering.
func TestAttacks(t *testing.T) {
	c := helped(t, `{"version": 1, "allow": [{"least": "1 B"}]}`, me())
	names := []string{
		"../etc/passwd", "../dev/null", "/dev/sda", "mem", "loop0/../mem", "sda1", `loop0\u0000`, "", strings.Repeat("x", 200),
	}
	var asks []string
	for _, name := range names {
		asks = append(asks, `{"version":1,"name":"`+name+`","sequence":"1"}`+"\n")
	}
	asks = append(
		asks, `{"version":1,"name":"loop0"}`+"\n", `{"version":9,"name":"loop0","sequence":"1"}`+"\n", "[]\n", "\n", "",
		`{"version":1,"name":"loop0","sequence":"1","as":"root"}`+"\n", strings.Repeat("x", 2*maxLine)+"\n", strings.Repeat("x", 2*maxLine),
		`{"version":1,"name":"loop0","sequence":"1"}`, // without a line's end
	)
	for _, ask := range asks {
		conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: c.Socket, Net: "unix"})
		if err != nil {
			t.Fatal(err)
		}
		conn.Write([]byte(ask))
		conn.CloseWrite()
		b, f, err := receive(conn)
		if f != nil {
			f.Close()
			t.Errorf("%.80s: a file was handed over", ask)
		}
		if err == nil && !strings.Contains(string(b), `"code":`) {
			t.Errorf("%.80s: answered %s", ask, b)
		}
		conn.Close()
	}
	all, err := block.Host{}.Drives()
	if err != nil {
		t.Skipf("what drives this machine has is not to be known: %v", err)
	}
	for _, d := range all {
		if len(d.Own) == 0 {
			continue
		}
		if _, err := c.Open(&d, false); !errors.Is(err, block.ErrOwn) {
			t.Errorf("%s, this machine's own: %v", d.Name, err)
		}
	}
}

// TestOneAccount holds that another account than the one that may is refused, by what the kernel says of it, and by the
// socket's own rights.
func TestOneAccount(t *testing.T) {
	c := helped(t, `{"version": 1, "allow": [{"bus": "loop"}]}`, me()+1)
	if _, err := c.Open(&block.Drive{Name: "loop0", Sequence: "1"}, false); !errors.Is(err, ErrRequest) {
		t.Errorf("another account is answered: %v", err)
	}
	st, err := os.Stat(c.Socket)
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the socket has the rights %v, %v", st.Mode(), err)
	}
	if l, err := Listen(c.Socket, me()); err == nil {
		l.Close()
		t.Error("a second helper takes the socket of the first")
	}
	file := image(t, 512)
	if _, err := Listen(file, me()); err == nil {
		t.Error("a file that is no socket was replaced")
	}
}

// TestSlow holds that those who connect and say nothing do not keep others out.
func TestSlow(t *testing.T) {
	c := helped(t, `{"version": 1, "allow": [{"bus": "loop"}]}`, me())
	for range atOnce - 1 {
		conn, err := net.Dial("unix", c.Socket)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
	}
	if _, err := c.Open(&block.Drive{Name: "none", Sequence: "1"}, false); !errors.Is(err, block.ErrNoDrive) {
		t.Errorf("answered %v", err)
	}
}

// FuzzRequest holds that whatever is sent is refused, or asks for one drive that must be there.
func FuzzRequest(f *testing.F) {
	for _, s := range []string{`{"version":1,"name":"sdb","sequence":"9","write":true}`, `{"version":1,"name":"../x","sequence":"9"}`} {
		f.Add([]byte(s))
	}
	host := block.Host{Root: f.TempDir()} // a machine without any drive
	rules, err := ParseRules([]byte(`{"version": 1, "allow": [{"least": "1 B"}]}`))
	if err != nil {
		f.Fatal(err)
	}
	h := &Helper{Host: host, Rules: rules, Log: slog.New(slog.DiscardHandler)}
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := ParseRequest(b)
		if err != nil {
			if !errors.Is(err, ErrRequest) {
				t.Errorf("refused as %v", err)
			}
			return
		}
		if file, err := h.open(r); file != nil || err == nil || len(h.held) > 0 {
			t.Errorf("%s: opened something on a machine without drives", b)
		}
	})
}

// FuzzHanded holds that whatever comes beside an answer is no file, or one.
func FuzzHanded(f *testing.F) {
	f.Add(unix.UnixRights(0)[:unix.CmsgLen(0)])
	f.Add([]byte("\x15\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x0000000")) // a number and a part of one
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := unix.ParseSocketControlMessage(b)
		if err == nil && len(list) == 1 && len(list[0].Data) == 4 && list[0].Header.Type == unix.SCM_RIGHTS {
			t.Skip("the number of a file that is not ours")
		}
		if file, err := handed(b); err == nil {
			t.Errorf("%x is the file %v", b, file)
		}
	})
}
