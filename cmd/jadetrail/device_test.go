package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/block"
	"jadetrail/core/sample/loop"
)

// TestOnDevice carries random plans out on block devices, and the same on images: what is said, the trail, the records
// and every byte on the drive are the same.
func TestOnDevice(t *testing.T) {
	did := 0
	for n := range 6 {
		t.Run(strconv.Itoa(n), func(t *testing.T) {
			var said [2]string
			var at string
			for i := range said {
				r := &recording{t: t, dir: t.TempDir(), rng: rand.New(rand.NewPCG(uint64(n), 21))}
				if i == 1 {
					r.as = func(image string) string { at = loop.Attach(t, image, 512); return at }
				}
				for range r.record(nil) {
					did++
				}
				// Zeros are written to a device, where an image gets a hole.
				said[i] = written.ReplaceAllString(r.text(), "")
			}
			kernelKnows(t, at)
			if said[0] != said[1] {
				a, b := strings.Split(said[0], "\n"), strings.Split(said[1], "\n")
				for i := range min(len(a), len(b)) {
					if a[i] != b[i] {
						t.Fatalf("line %d\non an image  %s\non a device  %s", i, a[i], b[i])
					}
				}
				t.Fatalf("%d lines on an image, %d on a device", len(a), len(b))
			}
		})
	}
	if did < 10 && !t.Failed() && !t.Skipped() {
		t.Errorf("only %d steps were carried out", did)
	}
}

var written = regexp.MustCompile(`"bytes_written":[0-9]+,`)

// kernelKnows holds that the kernel knows the partitions of a device with a GPT as they are on it now. A kernel that
// reads no tables is not asked.
func kernelKnows(t *testing.T, at string) {
	t.Helper()
	_, out, _ := bin(t, "inspect", "--json", at)
	var l struct {
		Scheme string
		Spans  []struct {
			Number int
			Start  int64 `json:"start_lba"`
			End    int64 `json:"end_lba"`
			Kind   string
		}
	}
	if err := json.Unmarshal([]byte(out), &l); err != nil {
		t.Fatal(err)
	}
	want, got := map[string]string{}, map[string]string{}
	for _, x := range l.Spans {
		if x.Kind == "partition" {
			want[fmt.Sprintf("%sp%d", filepath.Base(at), x.Number)] = fmt.Sprintf("%d, %d sectors", x.Start, x.End-x.Start+1)
		}
	}
	all, err := filepath.Glob(filepath.Join("/sys/block", filepath.Base(at), "*", "partition"))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range all {
		fact := func(name string) string {
			b, err := os.ReadFile(filepath.Join(filepath.Dir(p), name))
			if err != nil {
				t.Fatal(err)
			}
			return strings.TrimSpace(string(b))
		}
		got[filepath.Base(filepath.Dir(p))] = fact("start") + ", " + fact("size") + " sectors"
	}
	if len(got) > 0 && l.Scheme == "gpt" && !maps.Equal(got, want) {
		t.Errorf("the kernel knows %v, and there are %v", got, want)
	}
}

// TestDeviceInUse holds that what the machine uses is not worked on, whatever is asked for, and says why.
func TestDeviceInUse(t *testing.T) {
	r := &recording{t: t, dir: t.TempDir(), rng: rand.New(rand.NewPCG(1, 21))}
	image := filepath.Join(r.dir, "drive.img")
	r.randomDrive(image)
	at := loop.Attach(t, image, 512)
	dir, volume := t.TempDir(), filepath.Join(r.dir, "volume.img")
	if err := os.WriteFile(volume, make([]byte, 8<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mke2fs", "-q", "-F", volume).CombinedOutput(); err != nil {
		t.Skipf("nothing can be mounted here: %s", out)
	}
	mounted := loop.Attach(t, volume, 512)
	if err := unix.Mount(mounted, dir, "ext2", unix.MS_RDONLY, ""); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(dir, 0) })
	plan := write(t, "plan.json", `{"version":1,"steps":[{"do":"note-identity","partition":"1"}]}`)
	for _, args := range [][]string{{"inspect", mounted}, {"check", mounted}, {"carry-out", "--plan", plan, mounted}} {
		status, _, trouble := bin(t, args...)
		if status != exitNo || !strings.Contains(trouble, "is mounted at "+dir) {
			t.Errorf("%v: exit status %d, %s", args, status, trouble)
		}
	}
	// A partition is no drive, and neither is what is opened by another.
	if status, _, trouble := bin(t, "inspect", "/dev/null"); status != exitUse {
		t.Errorf("a device of characters is looked at: %s", trouble)
	}
	var other block.Claims
	f, err := other.OpenPath(at, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { f.Close(); other.Release() }()
	if status, _, trouble := bin(t, "inspect", at); status != exitNo || !strings.Contains(trouble, "another program") {
		t.Errorf("a drive that another has open is looked at: %d, %s", status, trouble)
	}
	_, out, _ := bin(t, "drives")
	for _, line := range []string{at + ", ", mounted + ", "} {
		if !slices.ContainsFunc(strings.Split(out, "\n"), func(l string) bool {
			return strings.HasPrefix(l, line) && strings.Contains(l, "this machine's own") == (line == mounted+", ")
		}) {
			t.Errorf("%s is not told as it is:\n%s", line, out)
		}
	}
}

// TestReplugged has a run stopped, the drive plugged in elsewhere and another one where it was: the run is found by what
// the drive is, and taken back to the byte; the other drive has no part in it.
func TestReplugged(t *testing.T) {
	for seed := range uint64(20) {
		r := &recording{t: t, dir: t.TempDir(), rng: rand.New(rand.NewPCG(seed, 21))}
		image, other := filepath.Join(r.dir, "drive.img"), filepath.Join(r.dir, "other.img")
		r.randomDrive(image)
		if err := os.WriteFile(other, make([]byte, 200<<20), 0o600); err != nil {
			t.Fatal(err)
		}
		before, at := contents(t, image), loop.Attach(t, image, 512)
		plan := write(t, "plan.json", `{"version":1,"steps":[{"do":"slide","partition":"1","by":"1 MiB"}]}`)
		if stopped(t, image+".trail/runs", "carry-out", "--plan", plan, "--serial", "5A3E", at) != exitStopped {
			continue // nothing could be moved, or it was faster
		}
		if status, _, _ := bin(t, "inspect", at); status != 0 || contents(t, image) == before {
			t.Fatal("the run was stopped before it changed anything")
		}
		loop.Detach(t, at)
		there, elsewhere := loop.Attach(t, other, 512), loop.Attach(t, image, 512)
		if status, _, trouble := bin(t, "resume", "--undo", there); status != exitNo {
			t.Errorf("another drive has the run: %d, %s", status, trouble)
		}
		ends(t, 0, "resume", "--undo", elsewhere)
		if contents(t, image) != before {
			t.Error("the drive is not as it was before")
		}
		return
	}
	t.Error("no run was stopped in the middle")
}

// stopped runs a command that is told to stop when its run has begun, and returns its exit status.
func stopped(t *testing.T, runs string, args ...string) int {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	over := make(chan int)
	go func() { over <- execute(ctx, args) }()
	for {
		select {
		case status := <-over:
			return status
		case <-time.After(time.Millisecond):
			if all, _ := filepath.Glob(filepath.Join(runs, "*", "journal*")); len(all) > 0 {
				time.Sleep(5 * time.Millisecond)
				stop()
			}
		}
	}
}

// TestNameless holds that nothing is begun on a drive of which nothing would be found again, and that no backup goes
// where its journal would not outlive a power cut.
func TestNameless(t *testing.T) {
	r := &recording{t: t, dir: t.TempDir(), rng: rand.New(rand.NewPCG(1, 21))}
	image := filepath.Join(r.dir, "drive.img")
	r.randomDrive(image)
	part := filepath.Join(r.dir, "longer.img") // a device that shows less than all of its image has no place beside it
	if err := os.WriteFile(part, make([]byte, 4<<20+100), 0o600); err != nil {
		t.Fatal(err)
	}
	at, nameless := loop.Attach(t, image, 512), loop.Attach(t, part, 512)
	for _, x := range []struct {
		args []string
		says string
	}{
		{[]string{"carry-out", "--plan", write(t, "plan.json", `{"version":1,"steps":[{"do":"mend"}]}`), nameless}, "tells no serial number"},
		{[]string{"back-up", "--partition", "1", "--kind", "files", "--shelf", at + ":1", image}, "is a block device"},
	} {
		if status, _, trouble := bin(t, x.args...); status != exitUse || !strings.Contains(trouble, x.says) {
			t.Errorf("%v: exit status %d, %s", x.args, status, trouble)
		}
	}
	ends(t, 0, "inspect", nameless) // to look needs no name
	if all, _ := filepath.Glob(part + ".*"); len(all) > 0 {
		t.Errorf("beside a drive without a name lies %v", all)
	}
}

// TestHelper has an account that has no right to any device work on one that a rule names, through the helper, and on
// no other.
func TestHelper(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("another account can be tried by root alone")
	}
	nobody, err := user.Lookup("nobody")
	if err != nil {
		t.Skip(err)
	}
	id, _ := strconv.Atoi(nobody.Uid)
	dir, err := os.MkdirTemp("", "jadetrail-test-") // a folder that others may pass through
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	program := filepath.Join(dir, "jadetrail")
	if out, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	r := &recording{t: t, dir: dir, rng: rand.New(rand.NewPCG(4, 21))}
	image, other := filepath.Join(dir, "drive.img"), filepath.Join(dir, "other.img")
	r.randomDrive(image)
	if err := errors.Join(os.Chmod(dir, 0o711), os.WriteFile(other, make([]byte, 300<<20), 0o600)); err != nil {
		t.Fatal(err)
	}
	at, not := loop.Attach(t, image, 512), loop.Attach(t, other, 512)
	rules := write(t, "rules.json", `{"version": 1, "allow": [{"bus": "loop", "most": "200 MiB"}]}`)
	socket := filepath.Join(dir, "drives")
	helper := exec.Command(program, "drives", "serve", "--socket", socket, "--rules", rules, "--account", "nobody")
	helper.Stderr = os.Stderr
	said, err := helper.StdoutPipe()
	if err == nil {
		err = helper.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		helper.Process.Signal(os.Interrupt)
		if err := helper.Wait(); err != nil {
			t.Errorf("the helper does not end in order: %v", err)
		}
	})
	if _, err := bufio.NewReader(said).ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	as := func(with string, args ...string) (string, error) {
		c := exec.Command(program, args...)
		c.Dir, c.Env = "/", append(os.Environ(), "JADETRAIL_DRIVES="+with)
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(id), Gid: uint32(id)}}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	want := ends(t, 0, "inspect", "--json", image)
	if out, err := as(socket, "inspect", "--json", at); err != nil || out != want {
		t.Errorf("through the helper: %v\n%s\nwanted\n%s", err, out, want)
	}
	if out, err := as("", "inspect", "--json", at); err == nil {
		t.Errorf("an account without rights needs no helper: %s", out)
	}
	if out, err := as(socket, "inspect", not); err == nil || !strings.Contains(out, "no rule of this machine allows it") {
		t.Errorf("a drive that no rule names: %v, %s", err, out)
	}
}
