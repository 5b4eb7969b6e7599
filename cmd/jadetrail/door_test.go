package main

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"os"
	"strings"
	"testing"
)

// A door opens to this machine; to others only where that is safe.
func TestDoor(t *testing.T) {
	for name, x := range map[string]struct {
		set  map[string]string
		demo bool
		want string // of the refusal
		at   string // how the address begins
	}{
		"this machine":                    {map[string]string{"JADETRAIL_ADDR": "127.0.0.1:0"}, false, "", "http://127.0.0.1:"},
		"a demo":                          {map[string]string{"JADETRAIL_ADDR": "127.0.0.1:0"}, true, "", "http://127.0.0.1:"},
		"a demo beyond":                   {map[string]string{"JADETRAIL_ADDR": "0.0.0.0:0", "JADETRAIL_HOSTS": "bench.example"}, true, "from this machine alone", ""},
		"a demo behind a proxy":           {map[string]string{"JADETRAIL_ADDR": "127.0.0.1:0", "JADETRAIL_PROXY": "127.0.0.1", "JADETRAIL_HOSTS": "bench.example"}, true, "from this machine alone", ""},
		"beyond, without a name":          {map[string]string{"JADETRAIL_ADDR": "0.0.0.0:0"}, false, "by which names", ""},
		"an odd name":                     {map[string]string{"JADETRAIL_HOSTS": "bench example/;"}, false, "no name of a host", ""},
		"an odd proxy":                    {map[string]string{"JADETRAIL_PROXY": "the proxy"}, false, "no address of a machine", ""},
		"a certificate without its key":   {map[string]string{"JADETRAIL_CERTIFICATE": "x.pem"}, false, "go together", ""},
		"a certificate that there is not": {map[string]string{"JADETRAIL_ADDR": "127.0.0.1:0", "JADETRAIL_CERTIFICATE": "x.pem", "JADETRAIL_CERTIFICATE_KEY": "x.key"}, false, "cannot be used", ""},
		"beyond":                          {map[string]string{"JADETRAIL_ADDR": "0.0.0.0:0", "JADETRAIL_HOSTS": "bench.example, 127.0.0.1"}, false, "", "https://bench.example:"},
		"behind a proxy":                  {map[string]string{"JADETRAIL_ADDR": "127.0.0.1:0", "JADETRAIL_HOSTS": "bench.example", "JADETRAIL_PROXY": "127.0.0.1"}, false, "", "https://bench.example"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, setting := range []string{"JADETRAIL_ADDR", "JADETRAIL_HOSTS", "JADETRAIL_PROXY", "JADETRAIL_CERTIFICATE", "JADETRAIL_CERTIFICATE_KEY"} {
				t.Setenv(setting, x.set[setting])
			}
			l, d, err := openDoor(t.TempDir(), x.demo)
			if err == nil {
				defer l.Close()
			}
			if x.want != "" {
				if err == nil || !strings.Contains(err.Error(), x.want) || !strings.Contains(err.Error(), "nothing was started") {
					t.Fatalf("%v, and not %q", err, x.want)
				}
				return
			}
			if err != nil || !strings.HasPrefix(d.address, x.at) || d.secure != strings.HasPrefix(x.at, "https") {
				t.Fatalf("%+v, %v", d, err)
			}
			if d.authority == "" {
				return
			}
			go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte("in")) }))
			roots := x509.NewCertPool()
			pem, err := os.ReadFile(d.authority)
			if err != nil || !roots.AppendCertsFromPEM(pem) {
				t.Fatal(err)
			}
			_, port, _ := strings.Cut(l.Addr().String(), "]:")
			client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
			r, err := client.Get("https://127.0.0.1:" + port)
			if err != nil {
				t.Fatalf("a browser that trusts the shop's authority does not get in: %v", err)
			}
			r.Body.Close()
			if _, err := http.Get("https://127.0.0.1:" + port); err == nil {
				t.Error("a browser that does not trust it gets in")
			}
		})
	}
}
