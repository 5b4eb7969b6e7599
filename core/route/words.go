package route

import (
	"fmt"
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

func routedCopyOut(w *routeWords, c plan.Column, _ *layout.Span) {
	from, _ := w.now.Find(plan.Number(c.Step.Partition))
	if to, ok := w.now.Find(c.Number); plan.Of[plan.CopyingOut](c.Step).Move && ok {
		w.other = append(w.other, fmt.Sprintf("move %s to %s; the size stays", c.Base, to.Title()))
		return
	}
	how := fmt.Sprintf("back up, delete and put back %s", from.Title())
	if to, ok := w.now.Find(plan.Number(c.Step.Other())); ok {
		how = fmt.Sprintf("copy %s to %s, delete it and put it back", from.Title(), to.Title())
	} else if c.Step.Other() != "" {
		how = fmt.Sprintf("copy %s to a temporary volume, delete it and put it back", from.Title())
	}
	w.other = append(w.other, how)
}

func routedGrow(w *routeWords, c plan.Column, was *layout.Span) {
	if c.Step.AtHead() {
		w.other = append(w.other, was.Title()+" slides toward the start")
	}
}

// routeWords are what the steps of a route do, as far as they have been told.
type routeWords struct {
	now               *layout.Layout
	kept              *layout.Span // the recovery partition that gets a new place, nil for none
	slid, gave, other []string
}

// said has, for each kind of step that a route tells of, how that is done.
var said = map[plan.Do]func(w *routeWords, c plan.Column, was *layout.Span){
	plan.Absorb: asTitled, plan.Clear: asTitled, plan.Container: asTitled, plan.CopyOut: routedCopyOut, plan.Grow: routedGrow, plan.ParkRecovery: routedParking,
	plan.Shrink: routedShrink, plan.Slide: routedSlide,
}

func routedParking(w *routeWords, _ plan.Column, _ *layout.Span) {
	if w.kept == nil {
		w.other = append(w.other, "recovery stays as a copy")
	}
}

// asTitled has a route say what a step does as its title says it.
func asTitled(w *routeWords, c plan.Column, _ *layout.Span) {
	w.other = append(w.other, strings.ToLower(c.Title[:1])+c.Title[1:])
}

// titleOf words a route by what its steps do, and by who gains room.
func titleOf(now *layout.Layout, cols []plan.Column, gone []layout.Span, kept *layout.Span, gains []string) string {
	w := routeWords{now: now, kept: kept}
	for _, c := range cols {
		was, ok := now.Find(c.Number)
		if !ok {
			was = &layout.Span{}
		}
		if say := said[c.Step.Do()]; say != nil {
			say(&w, c, was)
		}
	}
	var del, parts []string
	for _, p := range gone {
		del = append(del, p.Title())
	}
	if len(del) > 0 {
		parts = append(parts, "delete "+plan.Join(del))
	}
	parts = append(parts, w.gave...)
	if len(w.slid) > 0 {
		parts = append(parts, "slide "+plan.Join(w.slid))
	}
	parts = append(parts, w.other...)
	if kept != nil {
		parts = append(parts, "the recovery environment moves to a new place")
	}
	if len(parts) == 0 && len(gains) == 0 {
		parts = append(parts, cols[len(cols)-1].Title+" into the gap that is there")
	}
	text := strings.Join(append(parts, gains...), "; ")
	return strings.ToUpper(text[:1]) + text[1:]
}

func routedShrink(w *routeWords, c plan.Column, was *layout.Span) {
	is, _ := c.Layout.Find(c.Number)
	w.gave = append(w.gave, fmt.Sprintf("%s gives %s", was.Title(), was.Bytes-is.Bytes))
}

func routedSlide(w *routeWords, _ plan.Column, was *layout.Span) {
	w.slid = append(w.slid, was.Title())
}
