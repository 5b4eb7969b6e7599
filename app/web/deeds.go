package web

import (
	"fmt"
	"slices"
	"strings"

	"jadetrail/app/shop"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/words"
)

// deed is something that can or cannot be done, worded for the right side.
type deed struct {
	plan.Act
	Title string
	State string // its limit, or in a word what stands against it
	Care  bool
	Text  string
	Ways  []way
}

// way is a way round an obstacle; Link is empty where this version only says it.
type way struct {
	Text, Link string
	Select     int  // a partition to choose on the map
	Post       bool // the link is an act
}

// waysOnPC are the ways out of an obstacle that lead to the page of the PC.
var waysOnPC = map[string]string{
	"switch-off": "switch the PC off", "start-order": "see the start order", "read-facts": "read in the PC's facts",
	"close-volume": "see the PC", "letter": "give another letter",
}

// clearWays words what clears an obstacle; those with a link can be done here.
func clearWays(o *plan.Obstacle, job, bay string, names map[int]string) []way {
	at := func(path string) string {
		return pageOf(job, bay, strings.TrimPrefix(path, "/"))
	}
	var out []way
	for _, c := range o.Clears {
		switch c {
		case "delete":
			for _, n := range o.Partitions {
				if t := names[n]; t != "" {
					out = append(out, way{Text: "delete " + t, Link: at("") + fmt.Sprintf("&p=%d", n), Select: n})
				}
			}
		case "mend":
			out = append(out, way{Text: "plan to mend the table", Link: at("/mend"), Post: true})
		case "switch-off", "start-order", "read-facts", "close-volume", "letter":
			text := waysOnPC[c]
			out = append(out, way{Text: text, Link: at("/pc")})
		case "clear":
			out = append(out, way{Text: words.Either(len(names) == 0, "make a table", "clear the drive")})
		case "search":
			out = append(out, way{Text: "search the drive", Link: at("/search")})
		case "restart":
			out = append(out, way{Text: "carry out around a restart", Link: at("/pc") + "#restart"})
		case "attach":
			out = append(out, way{Text: "attach it for writing", Link: "/dock"})
		case "copy-out", "move-files":
			if len(o.Partitions) > 0 {
				out = append(out, way{
					Text: "take its files out", Link: at("/inside") + fmt.Sprintf("&p=%d", o.Partitions[0]),
				})
			}
		default:
			if t := map[string]string{
				"slide": "slide what stands between", "shrink": "shrink what follows", "grow-head": "grow toward the start", "container": "change the container", "change-table": "change the table to a GPT",
				"unseal": "unseal it on its own PC", "free-volume": "free the volume on its PC", "drop-restore-points": "drop the restore points", "logical": "a logical volume",
			}[c]; t != "" {
				out = append(out, way{Text: t})
			}
		}
	}
	return out
}

// deeds words the acts with a partition or gap.
func (st *jobState) deeds(acts []plan.Act, names map[int]string) []deed {
	var out []deed
	said := map[string]string{} // reasons, by what they were first given for
	for _, a := range acts {
		d := deed{Act: a, Title: words.Offered(a), Text: a.Note}
		switch {
		case a.Obstacle != nil:
			d.Care, d.Text = true, a.Obstacle.Text
			d.State = words.InShort(a.Obstacle)
			if first, again := said[d.Text]; again {
				d.Text = fmt.Sprintf("For the same reason as “%s”.", first)
				break
			}
			said[d.Text] = d.Title
			d.Ways = clearWays(a.Obstacle, st.Job.Number, st.Drive.Bay, names)
		case a.Limit > 0:
			d.State = "up to " + a.Limit.String()
		}
		out = append(out, d)
	}
	return out
}

// first are the acts that are likeliest for a partition, by what it is for.
var first = map[layout.Role][]plan.Do{
	layout.Recovery:  {plan.Look, plan.Delete, plan.ParkRecovery, plan.UseRecovery, plan.Slide},
	layout.OEM:       {plan.Look, plan.Delete, plan.Slide},
	layout.EFI:       {plan.Look, plan.Delete},
	layout.Reserved:  {plan.Look, plan.Delete},
	layout.Unknown:   {plan.Delete, plan.Slide},
	layout.Swap:      {plan.Delete, plan.Slide},
	layout.Container: {plan.Container},
}

// likeliest puts the acts with a partition into the order in which they are likely to be wanted: of a volume that is
// nearly full what gives it room, of what a maker or a system put there what takes it away.
func likeliest(p *layout.Span, acts []plan.Act) []plan.Act {
	order := first[p.Role]
	if shop.Tight(p) && order == nil {
		order = []plan.Do{plan.Grow, plan.Combine, plan.Look}
	}
	rank := func(a plan.Act) int {
		if i := slices.Index(order, a.Do); i >= 0 {
			return i
		}
		return len(order)
	}
	slices.SortStableFunc(acts, func(a, b plan.Act) int { return rank(a) - rank(b) })
	return acts
}

// apart tells what can be done, or where something can be done about what stands against it, from what cannot.
func apart(all []deed) (can, cannot []deed) {
	for _, d := range all {
		if d.Care && len(d.Ways) == 0 {
			cannot = append(cannot, d)
		} else {
			can = append(can, d)
		}
	}
	return can, cannot
}

// gapPanel is the right side for one gap.
type gapPanel struct {
	Key   string
	Span  layout.Span
	Why   string
	Deeds []deed
}

func gapKey(s layout.Span) string { return fmt.Sprintf("gap%d-%d", s.Container, s.Start) }

func (st *jobState) gaps(l *layout.Layout, names map[int]string) []gapPanel {
	var out []gapPanel
	if l == nil {
		return nil
	}
	for _, s := range l.Spans {
		if s.Kind == layout.Gap && s.Why == layout.Free {
			why := s.Why.Explains()
			if s.Container != 0 {
				why = "Free room inside the extended container: only logical volumes can use it."
			}
			out = append(out, gapPanel{
				gapKey(s), s, why, st.deeds(plan.GapActs(l, s.Start, s.Container, st.Facts), names),
			})
		}
	}
	return out
}
