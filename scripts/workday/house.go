package main

import (
	"bufio"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"golang.org/x/sys/unix"
)

// house is the application with its database and its data folder, which has a disk of its own.
type house struct {
	data, disks string
	server      *exec.Cmd
	gone        chan struct{} // closed when the server has ended
	address     string
	db          *sql.DB
	database    []string // how it is started
	log         *os.File
}

func open() (*house, error) {
	h := &house{data: os.Getenv("JADETRAIL_DATA"), disks: os.Getenv("JADETRAIL_DISKS"), address: "127.0.0.1:0"}
	for _, what := range []string{"migrate", "demo"} {
		if out, err := exec.Command("bin/jadetrail", what).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", what, err, out)
		}
	}
	var err error
	if h.db, err = sql.Open("mysql", os.Getenv("JADETRAIL_OWNER_DSN")); err != nil {
		return nil, err
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", h.databasePID()))
	if err != nil {
		return nil, err
	}
	h.database = strings.Split(strings.TrimRight(string(line), "\x00"), "\x00")
	if h.log, err = os.Create(h.disks + ".log"); err != nil {
		return nil, err
	}
	return h, h.startServer()
}

func (h *house) close() {
	h.killServer()
	if pid := h.databasePID(); pid > 0 {
		syscall.Kill(pid, syscall.SIGTERM)
	}
}

var whereItIs = regexp.MustCompile(`Jade Trail is at http://(\S+?)/?\s`)

func (h *house) startServer() error {
	c := exec.Command("bin/jadetrail", "serve", "--demo")
	c.Env, c.Stderr = append(os.Environ(), "JADETRAIL_ADDR="+h.address, "JADETRAIL_OWNER_DSN="), h.log
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	h.server, h.gone = c, make(chan struct{})
	found := make(chan string, 1)
	go func(gone chan struct{}) {
		defer close(gone)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			fmt.Fprintln(h.log, lines.Text())
			if m := whereItIs.FindStringSubmatch(lines.Text() + " "); m != nil {
				found <- m[1]
			}
		}
		c.Wait()
	}(h.gone)
	select {
	case h.address = <-found:
		return nil
	case <-h.gone:
		return errors.New("the server does not start")
	case <-time.After(60 * time.Second):
		return errors.New("the server does not start within a minute")
	}
}

func (h *house) killServer() error {
	if h.server == nil {
		return nil
	}
	h.server.Process.Kill()
	<-h.gone
	h.server = nil
	return nil
}

func (h *house) databasePID() int {
	b, _ := os.ReadFile(filepath.Join(h.data, "mariadb", "pid"))
	pid, _ := strconv.Atoi(strings.TrimSpace(string(b)))
	return pid
}

func (h *house) killDatabase() error {
	pid := h.databasePID()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		return err
	}
	for range 500 {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err != nil || strings.Contains(string(b), ") Z ") {
			return os.Remove(filepath.Join(h.data, "mariadb", "pid"))
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the database does not end")
}

func (h *house) startDatabase() error {
	c := exec.Command(h.database[0], h.database[1:]...)
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := c.Start(); err != nil {
		return err
	}
	go c.Wait()
	for range 300 {
		if h.db.Ping() == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("the database is not there within half a minute")
}

// fill takes all the room that a disk has, but for a random remainder of at most 64 KiB.
func (h *house) fill(disk string) error {
	f, err := os.Create(h.filler(disk))
	if err != nil {
		return err
	}
	defer f.Close()
	for at := int64(0); ; {
		var s unix.Statfs_t
		if err := unix.Fstatfs(int(f.Fd()), &s); err != nil {
			return err
		}
		free := int64(s.Bavail)*s.Bsize - rand.Int64N(64<<10)
		if free < s.Bsize {
			return nil
		}
		if err := unix.Fallocate(int(f.Fd()), 0, at, free); errors.Is(err, unix.ENOSPC) {
			continue // somebody else has taken some of it
		} else if err != nil {
			return err
		}
		at += free
	}
}

func (h *house) filler(disk string) string { return filepath.Join(h.disks, disk, "filler") }

func (h *house) empty(disk string) error {
	if err := os.Remove(h.filler(disk)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// calm waits until nothing that was cut short is written down any more.
func (h *house) calm() error {
	var left []string
	for range 300 {
		acts, _ := filepath.Glob(filepath.Join(h.data, "acts", "*"))
		waiting, _ := filepath.Glob(filepath.Join(h.data, "runs", "*", "waiting.json"))
		if left = append(acts, waiting...); len(left) == 0 && h.db.Ping() == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	for i, f := range left {
		b, _ := os.ReadFile(f)
		left[i] = fmt.Sprintf("%s: %.600s", f, b)
	}
	return fmt.Errorf("half a minute later these still wait: %s", strings.Join(left, ", "))
}
