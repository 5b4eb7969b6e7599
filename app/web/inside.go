package web

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/shelf"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// insideRoutes are the addresses of what shows what is in volumes, on drives and in backups.
func (s *Server) insideRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job/inside", s.insidePage)
	in.GET("/jobs/:job/holds", s.holdsPage)
	in.GET("/jobs/:job/file", s.file)
	in.GET("/jobs/:job/folder.tar", s.folderTar)
	in.POST("/jobs/:job/copy", s.copyPicked)
	in.GET("/shelf/:backup/inside", s.insidePage)
	in.GET("/shelf/:backup/file", s.file)
	in.GET("/shelf/:backup/folder.tar", s.folderTar)
}

// insideView is the inside of a volume: one page of a folder, or what a search by name
// has found.
type insideView struct {
	Job, Bay, Title, Dir, Base string
	Number                     int
	Backup                     *shelf.Manifest // what is looked into, nil for a drive
	Targets                    []target        // that its files can be put into
	Up                         []crumb
	List                       []fileRow
	Next                       string
	Text                       string // what is searched for
	Most                       bool   // more was found than is shown
	Trouble                    string
	Find                       string      // the page of the find that is looked into, "" for none
	Hidden                     [][2]string // what a search by name sends along
}

// BackupID is the backup that is looked into.
func (v insideView) BackupID() string { return v.Backup.ID }

// Tar is where a folder can be taken out.
func (v insideView) Tar() string { return strings.Replace(v.Base, "/inside?", "/folder.tar?", 1) }

// Picks tells that something can be picked in the list.
func (v insideView) Picks() bool { return v.Backup != nil || len(v.Targets) > 0 }

// Chosen tells that what is put back is chosen from a list.
func (insideView) Chosen() bool { return true }

type fileRow struct {
	Name, Link, Kind, Note string
	Path                   string // for what can be put back
	Bytes                  disk.Bytes
	Modified               string
	Unreadable             string
}

// pageRows is how many entries one page of a folder lists, maxFound how many a search
// by name.
const (
	pageRows = 200
	maxFound = 500
)

// volumeOf opens the volume that a page is about.
func (s *Server) volumeOf(c *gin.Context) (*store.Job, *shop.Drive, layout.Span, volume.Volume, error) {
	j, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err != nil {
		return nil, nil, layout.Span{}, nil, err
	}
	if c.Query("start") != "" { // a find
		f, err := s.findOf(c, d)
		if err == nil && f.Volume() == nil {
			err = fmt.Errorf("this find cannot be looked into: %w", store.ErrNotFound)
		}
		if err != nil {
			d.Close()
			return nil, nil, layout.Span{}, nil, err
		}
		return j, d, f.Span(), f.Volume(), nil
	}
	number := 0
	fmt.Sscan(c.Query("p"), &number)
	p, ok := d.Survey.Layout.Find(number)
	v := d.Survey.Volume(number)
	if !ok || v == nil {
		d.Close()
		return nil, nil, layout.Span{}, nil, fmt.Errorf("this partition cannot be looked into: %w", store.ErrNotFound)
	}
	return j, d, *p, v, nil
}

// looked is a volume that is looked into, on a drive or in a backup.
type looked struct {
	volume.Volume
	title, base string
	crumbs      []crumb
	job         *store.Job
	drive       *shop.Drive
	number      int
	backup      *shelf.Manifest
	find        string // the page of the find that is looked into, "" for no find
	close       func()
}

// lookedInto opens the volume that a page is about, on a drive or in a backup.
func (s *Server) lookedInto(c *gin.Context) (*looked, error) {
	if id := c.Param("backup"); id != "" {
		m, err := s.Shelf().Load(id)
		if err != nil {
			return nil, err
		}
		v, r, err := s.Shelf().Inside(m)
		if err != nil {
			return nil, err
		}
		at, title := "/shelf/"+m.ID, m.From.Span.Title()+", from its backup"
		return &looked{
			Volume: v, title: title, base: at + "/inside?",
			crumbs: []crumb{{"Bench", "/"}, {"Shelf", "/shelf"}, {m.ID, at}, {"Inside " + title, ""}}, backup: m,
			close: func() { r.Close() },
		}, nil
	}
	j, d, p, v, err := s.volumeOf(c)
	if err != nil {
		return nil, err
	}
	if p.Number == 0 {
		base := fmt.Sprintf(
			"/jobs/%s/inside?%s", url.PathEscape(j.Number),
			url.Values{"bay": {d.Bay}, "start": {c.Query("start")}, "told": {c.Query("told")}}.Encode(),
		)
		at := strings.Replace(base, "/inside?", "/find?", 1)
		return &looked{
			Volume: v, title: p.Title() + ", found", base: base,
			crumbs: append(s.driveCrumbs(j, d, "")[:2], crumb{p.Title() + ", found", at}, crumb{"Inside", ""}),
			job:    j, drive: d, find: at, close: d.Close,
		}, nil
	}
	return &looked{
		Volume: v, title: p.Title(), base: insideLink(j.Number, d.Bay, p.Number),
		crumbs: s.insideCrumbs(j, d, p, "Inside "+p.Title()), job: j, drive: d, number: p.Number, close: d.Close,
	}, nil
}

func insideLink(job, bay string, number int) string {
	return pageOf(job, bay, "inside", "p", number)
}

func (s *Server) insidePage(c *gin.Context) {
	v, err := s.lookedInto(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer v.close()
	if v.backup == nil { // the lists of backups are kept
		s.LookedInto(me(c).ID, shop.Looked{Title: v.title, Inside: v.base})
	}
	view := insideView{
		Title: v.title, Number: v.number, Dir: strings.Trim(c.Query("path"), "/"), Base: v.base,
		Text: strings.TrimSpace(c.Query("find")), Backup: v.backup,
	}
	if v.backup == nil {
		view.Job, view.Bay, view.Find = v.job.Number, v.drive.Bay, v.find
		for _, k := range []string{"bay", "p", "start", "told"} {
			if x := c.Query(k); x != "" {
				view.Hidden = append(view.Hidden, [2]string{k, x})
			}
		}
		if v.find == "" && me(c).Works() {
			here := fmt.Sprintf("%s:%d", v.drive.Bay, v.number)
			view.Targets, err = s.targets(v.job.Number, shop.NameOf(v.drive))
			view.Targets = slices.DeleteFunc(view.Targets, func(t target) bool { return t.Value == here })
		}
	} else {
		view.Targets, err = s.targets("", v.backup.From.Drive())
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	var list []volume.File
	if view.Text != "" {
		list, err = volume.Find(v.Volume, view.Text[:min(len(view.Text), 200)], maxFound+1)
		if view.Most = len(list) > maxFound; view.Most {
			list = list[:maxFound]
		}
	} else {
		list, view.Next, err = v.List(view.Dir, c.Query("from"), pageRows)
	}
	switch {
	case errors.Is(err, volume.ErrNotFound):
		view.Trouble = "There is no such folder in this volume."
	case err != nil:
		view.Trouble = words.Sentence(err)
	}
	for _, f := range list {
		view.List = append(view.List, view.row(f))
	}
	if view.Next != "" {
		view.Next = view.Base + "&path=" + url.QueryEscape(view.Dir) + "&from=" + url.QueryEscape(view.Next)
	}
	view.Up = crumbsTo(view.Title, view.Base, view.Dir)
	s.render(
		c, http.StatusOK, "inside",
		page{Title: "Inside " + view.Title, Here: "inside", Body: view, Crumbs: v.crumbs, Work: v.work(s)},
	)
}

// work is what goes on with the drive that is looked into.
func (v *looked) work(s *Server) *workBox {
	if v.job == nil {
		return nil
	}
	return s.workOn(v.job.Number, v.drive)
}

func (s *Server) insideCrumbs(j *store.Job, d *shop.Drive, p layout.Span, last string) []crumb {
	return []crumb{
		{"Bench", "/"}, {j.Number + " " + j.Customer, pageOf(j.Number, d.Bay, "", "p", p.Number)},
		{last, ""},
	}
}

// crumbsTo is the way from a volume's root to a folder.
func crumbsTo(title, base, dir string) []crumb {
	out := []crumb{{title, base}}
	at := ""
	for part := range strings.SplitSeq(dir, "/") {
		if part != "" {
			at = strings.TrimPrefix(at+"/"+part, "/")
			out = append(out, crumb{volume.Shown(part), base + "&path=" + url.QueryEscape(at)})
		}
	}
	return out
}

func (v *insideView) row(f volume.File) fileRow {
	name := path.Base(f.Path)
	if v.Text != "" {
		name = f.Path
	}
	r := fileRow{
		Name: volume.Shown(name), Path: f.Path, Kind: string(f.Kind), Bytes: f.Bytes,
		Modified: f.Modified.UTC().Format("2006-01-02 15:04"), Unreadable: volume.Shown(f.Unreadable),
	}
	q := "&path=" + url.QueryEscape(f.Path)
	switch {
	case f.Kind == volume.Folder:
		r.Link = v.Base + q
	case f.Kind == volume.Link:
		if r.Note = "a link"; f.Target != "" {
			r.Note = "leads to " + volume.Shown(f.Target)
		}
	case f.Unreadable == "":
		r.Link = strings.Replace(v.Base, "/inside?", "/file?", 1) + q
		if r.Note = f.Stored; f.Stream != "" {
			r.Link += "&stream=" + url.QueryEscape(f.Stream)
		}
	}
	if f.Stream != "" {
		r.Name, r.Note, r.Path = r.Name+":"+volume.Shown(f.Stream), "an alternate stream", ""
	}
	return r
}

// copyPicked backs up what was picked in a volume, and plans to put it into another one.
func (s *Server) copyPicked(c *gin.Context) {
	only, err := chosen(c)
	x := shop.Picked{Paths: only, Folder: strings.Trim(strings.TrimSpace(c.PostForm("folder")), "/")}
	x.Bay, x.Target, _ = strings.Cut(c.PostForm("target"), ":")
	x.Partition, _ = strconv.Atoi(c.PostForm("partition"))
	if err == nil && (len(x.Folder) > 1000 || len(x.Target) > 20 || len(x.Bay) > 20) {
		err = errors.New("that folder's name is too long; nothing was begun")
	}
	if err == nil {
		err = s.CopyPicked(errandOf(c), s.shelfFor(c), x)
	}
	s.begun(c, err)
}

// file hands one file of a volume out.
func (s *Server) file(c *gin.Context) {
	v, err := s.lookedInto(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer v.close()
	f, err := v.Stat(c.Query("path"))
	if err == nil && c.Query("stream") != "" {
		f, err = stream(v.Volume, f, c.Query("stream"))
	}
	if err == nil && f.Kind != volume.Plain {
		err = fmt.Errorf("%w: %s is a %s", volume.ErrNotFound, f.Path, f.Kind)
	}
	var r io.ReaderAt
	if err == nil {
		r, err = v.Open(f)
	}
	if err != nil {
		s.fail(c, fmt.Errorf("the file cannot be taken out: %w", err))
		return
	}
	attachment(c, path.Base(f.Path))
	c.Header("Content-Type", "application/octet-stream")
	// Byte ranges let a download that broke off go on.
	http.ServeContent(c.Writer, c.Request, "", f.Modified, io.NewSectionReader(r, 0, int64(f.Bytes)))
}

// stream finds an alternate stream of a file.
func stream(v volume.Volume, f volume.File, name string) (volume.File, error) {
	dir, from := path.Dir(f.Path), ""
	if dir == "." {
		dir = ""
	}
	for {
		list, next, err := v.List(dir, from, 1000)
		if err != nil {
			return f, err
		}
		for _, x := range list {
			if x.ID == f.ID && x.Stream == name {
				return x, nil
			}
		}
		if from = next; next == "" {
			return f, volume.ErrNotFound
		}
	}
}

func attachment(c *gin.Context, name string) {
	c.Header("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if r < 0x20 || r == '/' || r == '\\' {
			return '_'
		}
		return r
	}, name), "_")}))
}

// folderTar hands a folder out as a tar with all that is below it. What cannot be
// read stands in a list at its end.
func (s *Server) folderTar(c *gin.Context) {
	v, err := s.lookedInto(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer v.close()
	dir := strings.Trim(c.Query("path"), "/")
	name := v.title
	if dir != "" {
		f, err := v.Stat(dir)
		if err != nil || f.Kind != volume.Folder {
			s.fail(c, fmt.Errorf("the folder cannot be taken out: %w", errors.Join(err, volume.ErrNotFound)))
			return
		}
		name = path.Base(dir)
	}
	attachment(c, strings.ReplaceAll(name, ":", "")+".tar")
	c.Header("Content-Type", "application/x-tar")
	c.Status(http.StatusOK)
	t := tar.NewWriter(c.Writer)
	var unread []string
	err = v.Walk(func(f volume.File) error {
		if c.Request.Context().Err() != nil {
			return c.Request.Context().Err()
		}
		rest, below := strings.CutPrefix(f.Path, dir)
		if dir != "" && (!below || !strings.HasPrefix(rest, "/")) || f.Stream != "" {
			return nil
		}
		return addToTar(t, v.Volume, f, strings.TrimPrefix(rest, "/"), &unread)
	})
	if err == nil && len(unread) > 0 {
		text := strings.Join(unread, "\n") + "\n"
		if err = t.WriteHeader(&tar.Header{Name: "could not be read.txt", Mode: 0o644, Size: int64(len(text)), ModTime: s.Now()}); err == nil {
			_, err = io.WriteString(t, text)
		}
	}
	if err == nil {
		err = t.Close()
	}
	if err != nil {
		c.Error(err)
		// The answer has begun: breaking it off tells that it is not whole.
		if conn, _, err := c.Writer.Hijack(); err == nil {
			conn.Close()
		}
	}
}

func addToTar(t *tar.Writer, v volume.Volume, f volume.File, name string, unread *[]string) error {
	h := &tar.Header{Name: name, Mode: 0o644, ModTime: f.Modified.Truncate(time.Second), Format: tar.FormatPAX}
	switch f.Kind {
	case volume.Folder:
		h.Typeflag, h.Name, h.Mode = tar.TypeDir, name+"/", 0o755
		return t.WriteHeader(h)
	case volume.Link:
		h.Typeflag, h.Linkname = tar.TypeSymlink, f.Target
		return t.WriteHeader(h)
	}
	g, err := v.Stat(f.Path)
	if err != nil {
		g = f
	}
	r, err := v.Open(g)
	if err != nil {
		*unread = append(*unread, fmt.Sprintf("%s: %v", name, err))
		return nil
	}
	h.Size = int64(g.Bytes)
	if err := t.WriteHeader(h); err != nil {
		return err
	}
	_, err = io.Copy(t, io.NewSectionReader(r, 0, int64(g.Bytes)))
	return err
}

// holdsView is what fills a volume, as a picture that can be walked into.
type holdsView struct {
	Title, Dir, Base, Words string
	Number                  int
	Up                      []crumb
	Tiles                   []tile
	Rows                    []holdsRow
	Here                    volume.Sum
	Trouble                 string
}

type holdsRow struct {
	Name, Link string
	Sum        volume.Sum
	Share      int
	dir        string
}

// maxTiles bounds what the picture shows; the rest is one tile.
const maxTiles = 40

func (s *Server) holdsPage(c *gin.Context) {
	j, d, p, v, err := s.volumeOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer d.Close()
	base := strings.Replace(insideLink(j.Number, d.Bay, p.Number), "/inside?", "/holds?", 1)
	view := holdsView{Title: p.Title(), Dir: strings.Trim(c.Query("path"), "/"), Base: base, Number: p.Number}
	sum, err := s.Summary(v)
	if err != nil {
		view.Trouble = words.Sentence(err)
	} else {
		view.fill(sum)
		view.Words = volume.Shown(sum.Words(s.Now()))
	}
	view.Up = crumbsTo(view.Title, base, view.Dir)
	s.render(
		c, http.StatusOK, "holds",
		page{
			Title: "What fills " + view.Title, Here: "holds", Work: s.workOn(j.Number, d), Body: view,
			Crumbs: s.insideCrumbs(j, d, p, "What fills "+view.Title),
		},
	)
}

func (v *holdsView) fill(sum *volume.Summary) {
	v.Here = sum.Inside[v.Dir]
	rest := v.Here
	var weights []float64
	for _, dir := range sum.Largest(v.Dir) {
		x := sum.Inside[dir]
		rest.Files, rest.Bytes, rest.Taken = rest.Files-x.Files, rest.Bytes-x.Bytes, rest.Taken-x.Taken
		v.Rows = append(v.Rows, holdsRow{
			volume.Shown(path.Base(dir)), v.Base + "&path=" + url.QueryEscape(dir), x, 0, dir,
		})
	}
	if rest.Files > 0 {
		v.Rows = append(v.Rows, holdsRow{
			"files right here", strings.Replace(v.Base, "/holds?", "/inside?", 1) + "&path=" + url.QueryEscape(v.Dir),
			rest, 0, "",
		})
	}
	for i := range v.Rows {
		if v.Here.Taken > 0 {
			v.Rows[i].Share = int(v.Rows[i].Sum.Taken * 100 / v.Here.Taken)
		}
		if i < maxTiles {
			weights = append(weights, float64(v.Rows[i].Sum.Taken))
		}
	}
	for i, t := range squarify(weights, 900, 360) {
		t.Name, t.Link, t.Size, t.Shade = v.Rows[i].Name, v.Rows[i].Link, v.Rows[i].Sum.Taken.String(), i%5
		if t.W <= 3 || t.H <= 3 {
			continue
		}
		v.Tiles = append(v.Tiles, t)
		if v.Rows[i].dir != "" && t.W > 130 && t.H > 100 {
			v.Tiles = append(v.Tiles, v.within(sum, v.Rows[i].dir, t)...)
		}
	}
}

// within are the tiles of a folder's own folders, inside its tile.
func (v *holdsView) within(sum *volume.Summary, dir string, t tile) []tile {
	list := sum.Largest(dir)
	list = list[:min(len(list), maxTiles/2)]
	var weights []float64
	rest := sum.Inside[dir].Taken
	for _, d := range list {
		weights = append(weights, float64(sum.Inside[d].Taken))
		rest -= sum.Inside[d].Taken
	}
	weights = append(weights, float64(max(rest, 0)))
	var out []tile
	for i, k := range squarify(weights, t.W-12, t.H-50) {
		if i == len(list) || k.W <= 4 || k.H <= 4 {
			continue
		}
		k.X, k.Y = k.X+t.X+6, k.Y+t.Y+44
		k.Name, k.Link, k.Size, k.Shade = volume.Shown(path.Base(list[i])), v.Base+"&path="+url.QueryEscape(list[i]), sum.Inside[list[i]].Taken.String(), (t.Shade+i+2)%5
		out = append(out, k)
	}
	return out
}

// tile is one rectangle of the picture.
type tile struct {
	X, Y, W, H float64
	Name, Link string
	Size       string
	Shade      int
}

// Label tells that the tile has room for its name.
func (t tile) Label() bool { return t.W > 70 && t.H > 30 }

// Short is the name as far as the tile has room for it.
func (t tile) Short() string {
	r, most := []rune(t.Name), int(t.W/7.6)
	if len(r) <= most {
		return t.Name
	}
	return string(r[:max(most-1, 1)]) + "…"
}

// squarify lays weights out as rectangles that are as square as rows of them allow;
// they come in descending order.
func squarify(weights []float64, w, h float64) []tile {
	total := 0.0
	for _, x := range weights {
		total += x
	}
	out := make([]tile, len(weights))
	if total <= 0 {
		return out
	}
	x, y, left := 0.0, 0.0, total
	for i := 0; i < len(weights) && left > 0; {
		short := min(w, h)
		worst := func(sum, least, most float64) float64 {
			side := sum / left * max(w, h)
			if side == 0 || least == 0 {
				return 1e18
			}
			a, b := most/sum*short/side, side/(least/sum*short)
			return max(a, b, 1/a, 1/b)
		}
		n, sum := 1, weights[i]
		for i+n < len(weights) && worst(sum+weights[i+n], weights[i+n], weights[i]) <= worst(sum, weights[i+n-1], weights[i]) {
			sum += weights[i+n]
			n++
		}
		side, at := sum/left*max(w, h), 0.0
		for k := range n {
			l := 0.0
			if sum > 0 {
				l = weights[i+k] / sum * short
			}
			if w >= h {
				out[i+k] = tile{X: x, Y: y + at, W: side, H: l}
			} else {
				out[i+k] = tile{X: x + at, Y: y, W: l, H: side}
			}
			at += l
		}
		if w >= h {
			x, w = x+side, w-side
		} else {
			y, h = y+side, h-side
		}
		left -= sum
		i += n
	}
	return out
}
