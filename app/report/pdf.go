package report

import (
	"embed"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/words"
)

//go:embed fonts/*.ttf
var fonts embed.FS

// Page measures, in millimetres, of an A4 page.
const (
	margin  = 18.0
	width   = 210 - 2*margin
	line    = 5.2
	heading = 7.5
)

// Colours, as on the screen.
var (
	ink   = [3]int{17, 35, 29}
	soft  = [3]int{85, 100, 93}
	jade  = [3]int{13, 107, 84}
	amber = [3]int{154, 90, 6}
	rule  = [3]int{217, 212, 199}
)

var tints = map[layout.Role][3]int{
	layout.StartSystem: {18, 113, 91}, layout.OtherSystem: {18, 113, 91}, layout.Data: {51, 132, 154}, layout.Recovery: {132, 99, 157}, layout.OEM: {159, 122, 53},
}

type page struct{ *fpdf.Fpdf }

// PDF writes the report as a PDF file.
func (r *Report) PDF(w io.Writer) error {
	p := &page{Fpdf: fpdf.New("P", "mm", "A4", "")}
	for _, f := range []struct{ family, style, file string }{{"next", "", "next-400"}, {"next", "B", "next-600"}, {"mono", "", "mono-400"}} {
		b, err := fonts.ReadFile("fonts/" + f.file + ".ttf")
		if err != nil {
			return err
		}
		p.AddUTF8FontFromBytes(f.family, f.style, b)
	}
	p.SetCreationDate(r.Made)
	p.SetModificationDate(r.Made)
	p.SetTitle(fmt.Sprintf("%s, %s", r.Job, r.Customer), true)
	p.SetAuthor(r.Shop, true)
	p.SetLang("en")
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin+4)
	p.SetFooterFunc(func() {
		p.SetY(-margin)
		p.text(soft, 8.5)
		p.CellFormat(
			width/2, 5, fmt.Sprintf("%s · %s · %s", r.Shop, r.Job, r.Made.Local().Format("2 January 2006")), "", 0,
			"L", false, 0, "",
		)
		p.CellFormat(width/2, 5, fmt.Sprintf("page %d of {pages}", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AliasNbPages("{pages}")
	p.AddPage()
	p.first(r)
	for i := range r.Drives {
		p.done(&r.Drives[i])
	}
	for i := range r.Drives {
		p.toKnow(&r.Drives[i])
	}
	for i := range r.Drives {
		p.kept(&r.Drives[i])
	}
	p.head(r)
	p.signature("Day", "Received by the customer")
	p.certificate(r)
	if err := p.Error(); err != nil {
		return fmt.Errorf("the report could not be set: %w", err)
	}
	return p.Output(w)
}

func (p *page) text(c [3]int, size float64) {
	p.SetFont("next", "", size)
	p.SetTextColor(c[0], c[1], c[2])
}

func (p *page) bold(size float64) {
	p.SetFont("next", "B", size)
	p.SetTextColor(ink[0], ink[1], ink[2])
}

// title begins a part, on the next page where little of it would fit.
func (p *page) title(text string) {
	if p.GetY() > 297-margin-30 {
		p.AddPage()
	}
	p.Ln(4)
	p.bold(13)
	p.MultiCell(width, heading, text, "", "L", false)
}

func (p *page) para(c [3]int, text string) {
	p.text(c, 10)
	p.MultiCell(width, line, text, "", "L", false)
}

func (p *page) first(r *Report) {
	p.text(jade, 11)
	p.CellFormat(width, 6, r.Shop, "", 1, "L", false, 0, "")
	if r.Address != "" {
		p.para(soft, r.Address)
	}
	p.bold(20)
	p.MultiCell(width, 10, r.Customer+", "+r.PC, "", "L", false)
	p.text(soft, 10)
	p.MultiCell(
		width, line,
		fmt.Sprintf("Job %s · report of %s by %s", r.Job, r.Made.Local().Format("2 January 2006, 15:04"), r.By), "",
		"L", false,
	)
	p.title("What you asked")
	p.bold(10.5)
	p.MultiCell(width, line, r.Asked, "", "L", false)
	if r.Story != "" {
		p.para(soft, r.Story)
	}
	if r.Keep != "" {
		p.para(ink, "Not to be lost: "+r.Keep)
	}
}

// done sets what was done to a drive.
func (p *page) done(d *Drive) {
	p.title("What was done: drive " + strings.TrimSpace(d.Title+" "+d.Serial))
	p.para(soft, fmt.Sprintf("%s (%s)", d.Size, d.Size.Exact()))
	if d.Before != nil && d.After != nil {
		p.columns(d)
	}
	if len(d.Changes) > 0 {
		p.title("What became of each partition")
		p.table([]float64{58, 26, 26, 64}, []string{"Partition", "Before", "Now", "What became of it"}, "LRRL", len(d.Changes), func(i int) []string {
			c := d.Changes[i]
			size := func(b disk.Bytes) string {
				if b == 0 {
					return "not there"
				}
				return b.String()
			}
			return []string{c.Title, size(c.Before), size(c.After), strings.Join(c.What, ", ")}
		})
	}
	if len(d.Besides) > 0 {
		p.title("What else was done")
		for _, x := range d.Besides {
			p.para(ink, fmt.Sprintf("%s, %s: %s.", x.When.Local().Format("2 January 2006, 15:04"), x.Who, x.Text))
		}
	}
	if len(d.Runs) > 0 {
		p.title("What was done, step by step")
		for _, x := range d.Runs {
			p.bold(10)
			p.MultiCell(width, line, x.When.Local().Format("2 January 2006, 15:04")+", "+x.Who, "", "L", false)
			for i, s := range x.Steps {
				p.para(ink, fmt.Sprintf("%d. %s", i+1, s))
			}
			for _, n := range x.Notes {
				p.para(ink, n)
			}
			if x.Proof != "" {
				p.para(soft, x.Proof+".")
			}
			p.Ln(1.5)
		}
	}
}

// toKnow sets how a drive checks, and what was deleted from it.
func (p *page) toKnow(d *Drive) {
	if len(d.Checks) > 0 {
		p.title("Checks at the end")
		for _, c := range d.Checks {
			colour, word := jade, "sound"
			if !c.Sound {
				colour, word = amber, words.Either(c.ToDo, "to be done", "to be looked at")
			}
			p.text(ink, 10)
			p.Write(line, c.Title+": ")
			p.text(colour, 10)
			p.Write(line, word)
			if c.Text != "" {
				p.text(ink, 10)
				p.Write(line, ". "+c.Text)
			}
			p.Ln(line + 0.6)
		}
	}
	if len(d.Gone) > 0 {
		p.title("What was deleted, and how it can return")
		p.table([]float64{46, 22, 40, 66}, []string{"Partition", "Size", "When and by whom", "What was kept"}, "LRLL", len(d.Gone), func(i int) []string {
			g := d.Gone[i]
			kept := g.Kept + " Record " + g.Record + "."
			if g.Why != "" {
				kept += " " + g.Why
			}
			return []string{g.Title, g.Size.String(), g.When.Local().Format("2 Jan 2006 15:04") + ", " + g.Who, kept}
		})
	}
}

// kept sets which backups of a drive are kept.
func (p *page) kept(d *Drive) {
	if len(d.Backups) > 0 {
		p.title("Backups that we keep")
		p.table([]float64{54, 30, 44, 46}, []string{"Of", "Made", "Verified by reading back", "Kept until"}, "LLLL", len(d.Backups), func(i int) []string {
			b := d.Backups[i]
			verified := day(b.Verified)
			if b.Away {
				verified = "on no shelf in a bay now"
			}
			return []string{b.Title, day(&b.Made), verified, until(b.Until)}
		})
	}
}

// signature leaves room for a day and a name by hand.
func (p *page) signature(day, by string) {
	if p.GetY() > 297-margin-30 {
		p.AddPage()
	}
	p.Ln(18)
	p.SetDrawColor(soft[0], soft[1], soft[2])
	y := p.GetY()
	p.Line(margin, y, margin+40, y)
	p.Line(margin+50, y, margin+width, y)
	p.text(soft, 8.5)
	p.CellFormat(50, line, day, "", 0, "L", false, 0, "")
	p.CellFormat(width-50, line, by, "", 1, "L", false, 0, "")
}

// certified is what a certificate says of the places in it, and what it does not.
const certified = "These places were written over and read back in the run that deleted the partition. Nothing is said " +
	"here of areas that a drive does not show to a computer, nor of any other copy."

// certificate sets a page of its own that says what was erased, where something was.
func (p *page) certificate(r *Report) {
	list := r.Erasures()
	if len(list) == 0 {
		return
	}
	p.AddPage()
	p.text(jade, 11)
	p.CellFormat(width, 6, r.Shop, "", 1, "L", false, 0, "")
	if r.Address != "" {
		p.para(soft, r.Address)
	}
	p.bold(18)
	p.MultiCell(width, 10, "Certificate of erasure", "", "L", false)
	p.para(soft, fmt.Sprintf("Job %s, %s, %s", r.Job, r.Customer, r.PC))
	heads := []string{"Drive", "Partition", "Size", "Erased, and its record"}
	p.table([]float64{52, 34, 36, 52}, heads, "LLRL", len(list), func(i int) []string {
		e := list[i]
		return []string{
			e.Drive + " " + e.Serial, e.Title, e.Size.String() + " (" + e.Size.Exact() + ")",
			e.When.Local().Format("2 Jan 2006 15:04") + ", " + e.Who + ", " + e.Record,
		}
	})
	p.Ln(2)
	p.para(ink, certified)
	p.signature("Day", "For "+r.Shop)
}

func day(t *time.Time) string {
	if t == nil {
		return "not yet"
	}
	return t.Local().Format("2 Jan 2006")
}

func until(t *time.Time) string {
	if t == nil {
		return "no day is set"
	}
	return t.Local().Format("2 Jan 2006")
}

// table sets rows whose cells wrap; a row is never parted by the end of a page.
func (p *page) table(widths []float64, heads []string, align string, rows int, cells func(i int) []string) {
	p.text(soft, 8.5)
	for i, h := range heads {
		p.CellFormat(widths[i], line, h, "B", 0, string(align[i]), false, 0, "")
	}
	p.Ln(line)
	p.SetDrawColor(rule[0], rule[1], rule[2])
	for r := range rows {
		p.text(ink, 9.5)
		row := cells(r)
		high := line
		for i, c := range row {
			high = max(high, float64(len(p.SplitText(c, widths[i]-2)))*4.6+1.4)
		}
		if p.GetY()+high > 297-margin-6 {
			p.AddPage()
		}
		x, y := p.GetXY()
		for i, c := range row {
			p.SetXY(x, y+0.7)
			p.MultiCell(widths[i]-2, 4.6, c, "", string(align[i]), false)
			x += widths[i]
		}
		p.Line(margin, y+high, margin+width, y+high)
		p.SetXY(margin, y+high)
	}
}

// columns draws the drive before and now side by side.
func (p *page) columns(d *Drive) {
	const high, wide = 78.0, 74.0
	if p.GetY()+high+14 > 297-margin {
		p.AddPage()
	}
	p.Ln(2)
	top := p.GetY()
	x := margin
	for _, of := range []struct {
		when string
		l    *layout.Layout
	}{{"Before", d.Before}, {"Now", d.After}} {
		if of.when == "Before" && len(d.Changes) == 0 { // as it was before is not known: no run has kept it
			continue
		}
		p.SetXY(x, top)
		p.bold(10)
		p.CellFormat(wide, line, of.when, "", 0, "L", false, 0, "")
		p.column(of.l, x, top+line+1, wide, high)
		x += wide + 18
	}
	p.SetXY(margin, top+line+high+4)
}

func (p *page) column(l *layout.Layout, x, y, wide, high float64) {
	var shown []layout.Span
	total := 0.0
	weigh := func(s layout.Span) float64 { return math.Pow(float64(max(s.Bytes, 1)), 0.62) } // as the map on the screen does
	for _, s := range l.Spans {
		if s.Kind == layout.Gap && s.Why != layout.Free || s.Role == layout.Container {
			continue
		}
		shown = append(shown, s)
		total += weigh(s)
	}
	if len(shown) == 0 {
		return
	}
	const least, space = 6.2, 0.8
	room := high - float64(len(shown))*(least+space)
	for _, s := range shown {
		h := least + max(room, 0)*weigh(s)/total
		p.SetDrawColor(rule[0], rule[1], rule[2])
		if s.Kind == layout.Gap {
			p.SetDashPattern([]float64{1, 1}, 0)
			p.Rect(x, y, wide, h, "D")
			p.SetDashPattern(nil, 0)
			p.text(soft, 8.5)
			p.label(x+4, y, wide-6, h, "gap", s.Bytes.String())
		} else {
			c, ok := tints[s.Role]
			if !ok {
				c = [3]int{130, 144, 138}
			}
			p.Rect(x, y, wide, h, "D")
			p.SetFillColor((c[0]+2*255)/3, (c[1]+2*255)/3, (c[2]+2*255)/3)
			p.Rect(x, y, 2.4, h, "F")
			if v := s.Volume; v != nil && v.TotalBytes > 0 && v.ClusterBytes > 0 {
				p.SetFillColor(c[0], c[1], c[2])
				p.Rect(x, y, 2.4, h*min(float64(v.UsedBytes)/float64(v.TotalBytes), 1), "F")
			}
			p.text(ink, 9)
			p.label(x+4, y, wide-6, h, s.Title(), s.Bytes.String())
		}
		y += h + space
	}
}

func (p *page) label(x, y, wide, high float64, text, size string) {
	right := p.GetStringWidth(size) + 2
	for len(text) > 1 && p.GetStringWidth(text) > wide-right-2 {
		r := []rune(text)
		text = string(r[:len(r)-1])
	}
	p.SetXY(x, y)
	p.CellFormat(wide-right, high, text, "", 0, "LM", false, 0, "")
	p.CellFormat(right, high, size, "", 0, "RM", false, 0, "")
}

func (p *page) head(r *Report) {
	p.title("How this can be checked")
	p.para(
		ink,
		fmt.Sprintf(
			"Every act on these drives is one of the %s entries of our trail. Each entry holds the hash of the one before, so that none can be changed, removed or added unseen.",
			disk.Grouped(r.Entries),
		),
	)
	p.Ln(1)
	p.para(soft, "The newest entry, when this report was made:")
	p.SetFont("mono", "", 8.5)
	p.SetTextColor(ink[0], ink[1], ink[2])
	p.MultiCell(width, line, r.Head, "", "L", false)
	if r.Signed {
		p.para(soft, "Our public key (Ed25519), with which the entries are signed:")
		p.SetFont("mono", "", 8.5)
		p.SetTextColor(ink[0], ink[1], ink[2])
		p.MultiCell(width, line, r.Key, "", "L", false)
	}
}
