package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestDatabasesAtOnce holds that two databases that were told the same port, and start at the same moment, both run.
func TestDatabasesAtOnce(t *testing.T) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := strconv.Itoa(free.Addr().(*net.TCPAddr).Port)
	free.Close()
	dirs, said := []string{t.TempDir(), t.TempDir()}, make(chan string, 2)
	both := func() {
		for _, dir := range dirs {
			go func() {
				out, err := exec.Command("../../scripts/with-db.sh", dir, "bash", "-c", "sleep 2; echo $JADETRAIL_DSN").CombinedOutput()
				if err != nil {
					out = append(out, err.Error()...)
				}
				said <- string(out)
			}()
		}
	}
	both() // sets them up, which takes one longer than the other
	for range dirs {
		if out := <-said; !strings.Contains(out, "@tcp(127.0.0.1:") {
			t.Fatalf("a database that is set up: %q", out)
		}
	}
	for _, dir := range dirs {
		if err := os.WriteFile(filepath.Join(dir, "mariadb", "port"), []byte(port), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	both()
	one, other := <-said, <-said
	if !strings.Contains(one, "@tcp(127.0.0.1:") || !strings.Contains(other, "@tcp(127.0.0.1:") {
		t.Errorf("two databases at once: %q and %q", one, other)
		for _, dir := range dirs {
			for _, name := range []string{"install.log", "error.log"} {
				b, _ := os.ReadFile(filepath.Join(dir, "mariadb", name))
				t.Logf("%s:\n%s", name, b)
			}
		}
	}
	if !strings.Contains(one+other, ":"+port+")") {
		t.Errorf("none has the port %s: %q and %q", port, one, other)
	}
}
