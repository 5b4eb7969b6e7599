// Package drives is the helper that alone has rights to block devices, and the way to it. Whoever has no right to any
// device asks it over a local socket; it opens what a rule allows and hands the open file over. The helper knows
// nothing of partitions; what it reads of a request is small, and all of it is checked here. The protocol is in
// docs/drives.md.
package drives

import (
	"errors"
	"fmt"
	"path"

	"jadetrail/core/block"
	"jadetrail/core/disk"
	"jadetrail/core/form"
)

// Rules say which drives may be opened.
type Rules struct {
	Version int    `json:"version"`
	Allow   []Rule `json:"allow"`
}

// Rule allows the drives of which all that it says is so. A rule that says nothing is refused.
type Rule struct {
	Port   string `json:"port,omitempty"`   // where the drive is plugged in; * stands for any characters but /
	Bus    string `json:"bus,omitempty"`    // usb, nvme, ata, scsi, mmc, virtio, nbd, loop
	Serial string `json:"serial,omitempty"` // the whole serial number
	Least  string `json:"least,omitempty"`  // an amount: the smallest that is allowed
	Most   string `json:"most,omitempty"`   // the largest

	least, most disk.Bytes
}

// ParseRules reads rules.
func ParseRules(b []byte) (*Rules, error) {
	var r Rules
	if err := form.Read(b, &r); err != nil {
		return nil, err
	}
	if r.Version != 1 {
		return nil, fmt.Errorf("rules of version %d are not known; this program knows version 1", r.Version)
	}
	for i := range r.Allow {
		if err := r.Allow[i].check(); err != nil {
			return nil, fmt.Errorf("rule %d: %w", i+1, err)
		}
	}
	return &r, nil
}

func (r *Rule) check() error {
	if *r == (Rule{}) {
		return errors.New("it says nothing, so it would allow every drive; say bus, port, serial, least or most")
	}
	if _, err := path.Match(r.Port, ""); err != nil {
		return fmt.Errorf("the port %q: %w", r.Port, err)
	}
	for _, x := range []struct {
		text string
		into *disk.Bytes
	}{{r.Least, &r.least}, {r.Most, &r.most}} {
		if x.text == "" {
			continue
		}
		if disk.Relative(x.text) {
			return fmt.Errorf("%q is a share of something; say a size", x.text)
		}
		b, err := disk.ParseAmount(x.text, 1<<60)
		if err != nil {
			return err
		}
		*x.into = b
	}
	return nil
}

// Allows tells whether a rule names the drive.
func (r *Rules) Allows(d *block.Drive) bool {
	for _, x := range r.Allow {
		port, _ := path.Match(x.Port, d.Port)
		if (x.Port == "" || port) && (x.Bus == "" || x.Bus == d.Bus) && (x.Serial == "" || x.Serial == d.Serial) &&
			d.Bytes >= x.least && (x.most == 0 || d.Bytes <= x.most) {
			return true
		}
	}
	return false
}
