package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"jadetrail/app/certificate"
)

// Ports tried one after the other when no address is set.
const firstPort, lastPort = 8080, 8119

// door is where browsers come in.
type door struct {
	address   string   // as people type it
	secure    bool     // browsers come over TLS
	beyond    bool     // from other machines
	hosts     []string // names by which it is reached
	proxy     string   // the one that is believed about where requests come from
	authority string   // file of the shop's own authority, "" where another one is used
}

var errDoor = errors.New("nothing was started")

// hostForm is what names of hosts look like.
var hostForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$`)

// openDoor listens where the settings say. Beyond this machine that is done over TLS, with the certificate that is
// named, or one by an authority of the shop's own, unless a proxy is named that does it; and never for a demo.
func openDoor(data string, demo bool) (net.Listener, *door, error) {
	d := &door{proxy: os.Getenv("JADETRAIL_PROXY")}
	if d.proxy != "" {
		if _, err := netip.ParseAddr(d.proxy); err != nil {
			return nil, nil, errUse{fmt.Errorf("JADETRAIL_PROXY is %q, and no address of a machine; %w", d.proxy, errDoor)}
		}
	}
	hosts := strings.ReplaceAll(strings.ToLower(os.Getenv("JADETRAIL_HOSTS")), ",", " ")
	for _, h := range strings.Fields(hosts) {
		if _, err := netip.ParseAddr(h); err != nil && !hostForm.MatchString(h) {
			return nil, nil, errUse{fmt.Errorf("JADETRAIL_HOSTS has %q, and that is no name of a host; %w", h, errDoor)}
		}
		d.hosts = append(d.hosts, h)
	}
	certFile, keyFile := os.Getenv("JADETRAIL_CERTIFICATE"), os.Getenv("JADETRAIL_CERTIFICATE_KEY")
	if (certFile == "") != (keyFile == "") {
		return nil, nil, errUse{fmt.Errorf("JADETRAIL_CERTIFICATE and JADETRAIL_CERTIFICATE_KEY go together; %w", errDoor)}
	}
	l, err := listen()
	if err != nil {
		return nil, nil, err
	}
	at := l.Addr().(*net.TCPAddr)
	name := at.IP.String()
	if d.beyond = !at.IP.IsLoopback() || d.proxy != ""; d.beyond {
		if err := d.mayBeReached(demo); err != nil {
			l.Close()
			return nil, nil, err
		}
		name = d.hosts[0]
	}
	d.secure = d.proxy != "" || d.beyond || certFile != ""
	if d.secure && d.proxy == "" {
		var cert tls.Certificate
		if certFile != "" {
			cert, err = tls.LoadX509KeyPair(certFile, keyFile)
		} else {
			own := certificate.In(filepath.Join(data, "certificate"))
			d.authority = own.AuthorityFile()
			cert, err = own.For(d.hosts)
		}
		if err != nil {
			l.Close()
			return nil, nil, fmt.Errorf("the certificate cannot be used: %w; %w", err, errDoor)
		}
		l = tls.NewListener(l, &tls.Config{
			Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"},
		})
	}
	scheme := "http"
	if d.secure {
		scheme = "https"
	}
	d.address = fmt.Sprintf("%s://%s", scheme, net.JoinHostPort(name, fmt.Sprint(at.Port)))
	if d.proxy != "" {
		d.address = "https://" + name
	}
	return l, d, nil
}

// mayBeReached refuses a door to other machines that would not be safe.
func (d *door) mayBeReached(demo bool) error {
	switch {
	case demo:
		return errUse{fmt.Errorf(
			"a demo, whose passwords everybody knows, is reached from this machine alone; %w. "+
				"Take JADETRAIL_ADDR and JADETRAIL_PROXY out", errDoor,
		)}
	case len(d.hosts) == 0:
		return errUse{fmt.Errorf(
			"beyond this machine it has to be said by which names the bench is reached; %w. "+
				"Set JADETRAIL_HOSTS, for example to bench.example", errDoor,
		)}
	}
	return nil
}

func listen() (net.Listener, error) {
	if a := os.Getenv("JADETRAIL_ADDR"); a != "" {
		l, err := net.Listen("tcp", a)
		if err != nil {
			return nil, fmt.Errorf(
				"the address %s cannot be used: %w. Nothing was changed. Choose another with JADETRAIL_ADDR", a, err,
			)
		}
		return l, nil
	}
	var last error
	for p := firstPort; p <= lastPort; p++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p))
		if err == nil {
			return l, nil
		}
		last = err
	}
	return nil, fmt.Errorf(
		"no port from %d to %d is free: %w. Choose one with JADETRAIL_ADDR", firstPort, lastPort, last,
	)
}
