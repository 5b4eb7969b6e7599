package report

import (
	"bytes"
	"regexp"
	"testing"
	"time"

	"jadetrail/core/disk"
)

// Where something was erased, and there alone, the report has a certificate on a page of its own.
func TestCertificate(t *testing.T) {
	pages := func(r *Report) int {
		var b bytes.Buffer
		if err := r.PDF(&b); err != nil {
			t.Fatal(err)
		}
		return len(regexp.MustCompile(`/Type /Page\b`).FindAll(b.Bytes(), -1))
	}
	day := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	gone := Gone{Title: "Recovery", Size: 2 * disk.GiB, When: day, Who: "Ines Marsh", Record: "d-1"}
	r := &Report{
		Shop: "Lantern Quay Repairs", Address: "3 Quay Street\nPort Ellery", Job: "J-1042", Customer: "Tidewater Vets", PC: "reception PC",
		Asked: "C: larger", Keep: "the X-rays", Made: day, By: "Ines Marsh",
		Drives: []Drive{{Title: "512 GB solid-state drive", Serial: "TLX5-220-7F3K", Gone: []Gone{gone}}},
	}
	if list := r.Erasures(); len(list) != 0 {
		t.Errorf("nothing was erased, and the certificate has %+v", list)
	}
	plain := pages(r)
	gone.Erased = true
	r.Drives[0].Gone = append(r.Drives[0].Gone, gone)
	list := r.Erasures()
	if len(list) != 1 || list[0].Serial != "TLX5-220-7F3K" || list[0].Record != "d-1" {
		t.Errorf("%+v", list)
	}
	if got := pages(r); got != plain+1 {
		t.Errorf("with a certificate the report has %d pages, and %d without", got, plain)
	}
}
