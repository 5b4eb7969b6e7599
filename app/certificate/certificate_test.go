package certificate

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "certificate")
	own := In(dir)
	hosts := []string{"bench.example", "10.0.0.7"}
	cert, err := own.For(hosts)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	pem, err := os.ReadFile(own.AuthorityFile())
	if err != nil || !roots.AppendCertsFromPEM(pem) {
		t.Fatal("no authority", err)
	}
	for host, want := range map[string]bool{"bench.example": true, "10.0.0.7": true, "other.example": false} {
		if err := visit(t, cert, roots, host); (err == nil) != want {
			t.Errorf("a browser that goes to %s: %v", host, err)
		}
	}
	// Only its owner reads a key, and the browsers' trust in the authority lasts.
	for _, name := range []string{"authority.key", "bench.key"} {
		if st, err := os.Stat(filepath.Join(dir, name)); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", name, st.Mode(), err)
		}
	}
	for what, x := range map[string]struct {
		hosts []string
		days  int
		same  bool
	}{
		"the same day":     {hosts, 0, true},
		"other hosts":      {[]string{"bench.example"}, 0, false},
		"nearly over":      {hosts, 370, false},
		"in another order": {[]string{"10.0.0.7", "bench.example"}, 0, true},
		"over":             {hosts, 400, false},
	} {
		own := In(filepath.Join(t.TempDir(), "certificate"))
		first, err := own.For(hosts)
		if err != nil {
			t.Fatal(err)
		}
		authority, err := os.ReadFile(own.AuthorityFile())
		if err != nil {
			t.Fatal(err)
		}
		own.now = func() time.Time { return time.Now().AddDate(0, 0, x.days) }
		now, err := own.For(x.hosts)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if same := now.Leaf.SerialNumber.Cmp(first.Leaf.SerialNumber) == 0; same != x.same {
			t.Errorf("%s: the same certificate is %v", what, same)
		}
		if now.Leaf.NotAfter.Sub(own.now()) < renewBefore {
			t.Errorf("%s: it is over on %v", what, now.Leaf.NotAfter)
		}
		if again, err := os.ReadFile(own.AuthorityFile()); err != nil || string(again) != string(authority) {
			t.Errorf("%s: another authority", what)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "bench.pem"), []byte("nothing"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := own.For(hosts); err == nil {
		t.Error("what cannot be read was written over")
	}
}

// visit shows a browser that trusts roots, and goes to a host, a certificate.
func visit(t *testing.T, cert tls.Certificate, roots *x509.CertPool, host string) error {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}}).Handshake()
		}
	}()
	c, err := tls.DialWithDialer(&net.Dialer{Timeout: 10 * time.Second}, "tcp", l.Addr().String(), &tls.Config{RootCAs: roots, ServerName: host})
	if err == nil {
		c.Close()
	}
	return err
}
