package web

import (
	"strings"
	"testing"
	"time"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// TestDuties names a turn of a job that no page has words for, or no way to go on from.
func TestDuties(t *testing.T) {
	now := time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC)
	j := &store.Job{Number: "J-1", HandedAt: &now, ClosedAt: &now}
	n := shop.Next{Why: "It is so.", Step: 2, Last: &trail.Entry{Time: now}, Backups: 1, Reasons: 2}
	for _, n.Turn = range shop.Turns {
		for _, lead := range []bool{false, true} {
			if duties[n.Turn] == nil {
				t.Errorf("%s: no words", n.Turn)
				continue
			}
			x := isDue(j, "A", n, lead)
			if x.Text == "" || x.Turn != n.Turn || (x.Label == "" || x.Link == "") && n.Turn != shop.TurnUnread {
				t.Errorf("%s: %+v", n.Turn, x)
			}
		}
	}
	if len(duties) != len(shop.Turns) {
		t.Errorf("%d duties, %d turns", len(duties), len(shop.Turns))
	}
	if n.Turn, n.Asks = shop.TurnLead, 0; isDue(j, "A", n, false).Text != n.Why {
		t.Errorf("what cannot be asked for yet: %+v", isDue(j, "A", n, false))
	}
	n.Turn, n.Backups, n.Reasons = shop.TurnReason, 0, 1
	n.Give = &shop.Reason{Step: plan.Step{Partition: "4", Body: plan.Deletion{Waiver: "w", Erase: true, Backups: "keep"}}, Title: "Recovery"}
	x := isDue(j, "A", n, false)
	var sent []string
	for _, f := range x.Fields {
		sent = append(sent, f.Key+"="+f.Title)
	}
	if got := strings.Join(sent, " "); !x.Form || x.Ask != "release" || got != "do=delete partition=4 backups=keep erase=yes waiver=w" {
		t.Errorf("a reason is asked for with %q, %+v", got, x)
	}
}
