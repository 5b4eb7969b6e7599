package shop

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/app/store/storetest"
	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// clock is a day that goes on when it is told to.
type clock struct{ now time.Time }

// opened is a shop on its first day: nobody is there yet.
func opened(t *testing.T) (*Shop, *clock) {
	t.Helper()
	ownerDSN, appDSN := storetest.Database(t)
	if err := store.Migrate(context.Background(), ownerDSN, "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(appDSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	s, err := New(Options{Store: st, Data: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	c := &clock{time.Now()}
	s.Now = func() time.Time { return c.now }
	return s, c
}

const leadPassword = "four herons mend a kiln"

// open makes the first lead.
func (c *clock) open(t *testing.T, s *Shop) *store.Technician {
	t.Helper()
	code, err := s.Welcome()
	if err != nil || code == "" {
		t.Fatal(code, err)
	}
	lead, err := s.OpenUp(t.Context(), FirstDay{
		Code: code, Shop: "Lantern Quay Repairs", Address: "3 Quay Street\nPort Ellery", Login: "Odile", Name: "Odile Farrow",
		Password: leadPassword, Bays: 4,
	})
	if err != nil {
		t.Fatal(err)
	}
	return lead
}

// worker makes somebody who has chosen a password.
func (c *clock) worker(t *testing.T, s *Shop, login, name string, role store.Role) *store.Technician {
	t.Helper()
	code, err := s.AddPerson("Odile Farrow", login, name, role)
	if err != nil {
		t.Fatal(err)
	}
	p, err := s.Enter(t.Context(), login, code, "slow barges carry salt")
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// says refuses an error that does not say what it must; "" is for none.
func says(t *testing.T, what string, err error, want string) {
	t.Helper()
	switch {
	case want == "" && err != nil:
		t.Errorf("%s: %v", what, err)
	case want != "" && (err == nil || !strings.Contains(err.Error(), want)):
		t.Errorf("%s: %v, and not %q", what, err, want)
	}
}

func TestFirstDay(t *testing.T) {
	s, _ := opened(t)
	code, err := s.Welcome()
	if err != nil || !s.Empty() {
		t.Fatal(err)
	}
	right := FirstDay{Code: code, Shop: "Lantern Quay Repairs", Login: "odile", Name: "Odile Farrow", Password: leadPassword, Bays: 30}
	for what, x := range map[string]struct {
		change func(d *FirstDay)
		want   string
	}{
		"another code":      {func(d *FirstDay) { d.Code = "AAAA-BBBB-CCCC" }, "not the code"},
		"no name":           {func(d *FirstDay) { d.Shop = " \u200b " }, "the shop's name is not said"},
		"a short password":  {func(d *FirstDay) { d.Password = "short" }, "at least 12"},
		"a common password": {func(d *FirstDay) { d.Password = "odilefarrow1" }, "tried first"},
		"an odd login":      {func(d *FirstDay) { d.Login = "ödile" }, "small letters"},
		"no bay":            {func(d *FirstDay) { d.Bays = 0 }, "bays"},
		"a long address":    {func(d *FirstDay) { d.Address = strings.Repeat("x", 401) }, "at most 400"},
	} {
		d := right
		x.change(&d)
		_, err := s.OpenUp(t.Context(), d)
		says(t, what, err, x.want)
	}
	if _, err := s.Store.Settings(); !errors.Is(err, store.ErrNotFound) {
		t.Fatalf("a refusal has made a shop: %v", err)
	}
	lead, err := s.OpenUp(t.Context(), right)
	if err != nil || !lead.Lead() {
		t.Fatal(lead, err)
	}
	_, err = s.OpenUp(t.Context(), right)
	says(t, "once more", err, "opened before")
	if code, err := s.Welcome(); code != "" || err != nil {
		t.Errorf("there is another code: %q, %v", code, err)
	}
	bays, err := s.Store.Bays()
	if err != nil || len(bays) != 30 || bays[25].Letter != "Z" || bays[26].Letter != "AA" || bays[29].Letter != "AD" {
		t.Errorf("%v, %v", bays, err)
	}
	if list, err := s.Store.Entries(store.Filter{}); err != nil || len(list) != 1 || list[0].Act != trail.ActShop || list[0].Who != "Odile Farrow" {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestPeople(t *testing.T) {
	s, c := opened(t)
	lead := c.open(t, s)
	ctx := t.Context()
	code, err := s.AddPerson(lead.Name, " Ines ", "Ines Marsh", store.Worker)
	says(t, "an account", err, "")
	_, err = s.AddPerson(lead.Name, "ines", "Another", store.Worker)
	says(t, "the same login", err, "already")
	_, err = s.AddPerson(lead.Name, "tobias", "Tobias", "boss")
	says(t, "a role that there is not", err, "no role")
	if _, err := s.Store.SignIn(ctx, "ines", ""); !errors.Is(err, store.ErrSignIn) {
		t.Errorf("without a password: %v", err)
	}
	_, err = s.Enter(ctx, "ines", "AAAA-AAAA-AAAA", "slow barges carry salt")
	says(t, "another code", err, "do not belong together")
	_, err = s.Enter(ctx, "ines", code, "ines marsh ines")
	says(t, "a soft password", err, "tried first")
	c.now = c.now.Add(firstCodeFor + time.Minute)
	_, err = s.Enter(ctx, "ines", code, "slow barges carry salt")
	says(t, "a code that is over", err, "not good any more")
	c.now = c.now.Add(-2 * time.Minute)
	ines, err := s.Enter(ctx, "INES", strings.ToLower(code), "slow barges carry salt")
	says(t, "the code", err, "")
	_, err = s.Enter(ctx, "ines", code, "other barges carry salt")
	says(t, "the code once more", err, "do not belong together")
	if _, err := s.Store.SignIn(ctx, "ines", "slow barges carry salt"); err != nil {
		t.Error(err)
	}

	// A changed password ends all other sittings; so does a reset, and switching off.
	now := c.now.UTC()
	sit := func(id string) {
		if err := s.Store.Begin(store.Sitting{ID: id, Technician: ines.ID, BegunAt: now, SeenAt: now}); err != nil {
			t.Fatal(err)
		}
	}
	sits := func() (out []string) {
		list, err := s.Store.Sittings(ines.ID, now.Add(-time.Hour), now.Add(-time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range list {
			out = append(out, x.ID)
		}
		slices.Sort(out)
		return out
	}
	sit("one")
	sit("two")
	says(t, "a wrong old password", s.ChangePassword(ctx, ines, "one", "wrong", "tall cranes lift tar"), "not your password")
	says(t, "another password", s.ChangePassword(ctx, ines, "one", "slow barges carry salt", "tall cranes lift tar"), "")
	if got := sits(); !slices.Equal(got, []string{"one"}) {
		t.Errorf("after another password sit %v", got)
	}
	_, err = s.Reset(lead.Name, ines.ID, false)
	says(t, "a reset", err, "")
	if got := sits(); len(got) != 0 {
		t.Errorf("after a reset sit %v", got)
	}
	if _, err := s.Store.SignIn(ctx, "ines", "tall cranes lift tar"); !errors.Is(err, store.ErrSignIn) {
		t.Errorf("the former password is good after a reset: %v", err)
	}
	sit("three")
	says(t, "switching off", s.Switch(lead.Name, ines.ID, false), "")
	if got := sits(); len(got) != 0 {
		t.Errorf("switched off, sit %v", got)
	}
	says(t, "switching off twice", s.Switch(lead.Name, ines.ID, false), "off already")
	_, err = s.Reset(lead.Name, ines.ID, false)
	says(t, "a code for one that is off", err, "switched off")

	// A lead is always left.
	says(t, "the last lead off", s.Switch(lead.Name, lead.ID, false), "no lead would be left")
	says(t, "the last lead no lead", s.Rename(lead.Name, lead.ID, lead.Name, store.Worker), "no lead would be left")
	says(t, "on again", s.Switch(lead.Name, ines.ID, true), "")
	says(t, "another lead", s.Rename(lead.Name, ines.ID, "Ines Marsh", store.Leader), "")
	says(t, "then the first off", s.Switch("Ines Marsh", lead.ID, false), "")

	// The trail tells all of it, by whom, and no secret.
	list, err := s.Store.Entries(store.Filter{Act: string(trail.ActPerson)})
	if err != nil || len(list) != 8 {
		t.Errorf("%d entries, %v", len(list), err)
	}
	for _, e := range list {
		if e.Who == "" || strings.Contains(e.Text, code) || strings.Contains(e.Text, "barges") {
			t.Errorf("%+v", e)
		}
	}
}

func TestSecondFactor(t *testing.T) {
	s, c := opened(t)
	lead := c.open(t, s)
	secret, err := signin.NewSecond()
	if err != nil {
		t.Fatal(err)
	}
	number := func() string {
		n, err := totp.GenerateCode(secret, c.now)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	_, err = s.SetSecond(lead, secret, "000000")
	says(t, "another number", err, "nothing was set up")
	codes, err := s.SetSecond(lead, secret, number())
	if err != nil || len(codes) != recoveries {
		t.Fatal(codes, err)
	}
	_, err = s.UseSecond(lead.ID, number())
	says(t, "the number that set it up", err, "used before")
	c.now = c.now.Add(time.Minute)
	_, err = s.UseSecond(lead.ID, number())
	says(t, "the next number", err, "")
	_, err = s.UseSecond(lead.ID, number())
	says(t, "the same once more", err, "used before")
	if left, err := s.UseSecond(lead.ID, strings.ToLower(codes[3])); err != nil || left != recoveries-1 {
		t.Errorf("a recovery code: %d, %v", left, err)
	}
	_, err = s.UseSecond(lead.ID, codes[3])
	says(t, "it once more", err, "used before")
	lead, err = s.Store.Technician(lead.ID)
	if err != nil {
		t.Fatal(err)
	}
	says(t, "taken off with another password", s.EndSecond(t.Context(), lead, "no"), "not your password")
	says(t, "taken off", s.EndSecond(t.Context(), lead, leadPassword), "")
	_, err = s.UseSecond(lead.ID, number())
	says(t, "without one", err, "not the one of now")
}

// counted is a job as somebody says it.
func counted() Intake {
	return Intake{
		Name: "Tidewater Vets", Phone: "01632 960-147", PC: "reception PC", Story: "C: is full.", Want: "C: larger", Goal: "gain",
		Keep: "the X-rays", Promised: "2026-12-04",
	}
}

func TestJobAtTheCounter(t *testing.T) {
	s, c := opened(t)
	c.open(t, s)
	ines := c.worker(t, s, "ines", "Ines Marsh", store.Worker)
	rhea := c.worker(t, s, "rhea", "Rhea Moss", store.Reader)
	for what, x := range map[string]struct {
		change func(in *Intake)
		want   string
	}{
		"nobody":          {func(in *Intake) { in.Name = "" }, "the customer's name is not said"},
		"no wish":         {func(in *Intake) { in.Want = "\x00" }, "the wish is not said"},
		"an odd day":      {func(in *Intake) { in.Promised = "tomorrow" }, "no day"},
		"an odd address":  {func(in *Intake) { in.Email = "at the counter" }, "no e-mail address"},
		"a long story":    {func(in *Intake) { in.Story = strings.Repeat("x", maxText+1) }, "at most"},
		"a customer gone": {func(in *Intake) { in.Customer = 999 }, "not found"},
	} {
		in := counted()
		x.change(&in)
		_, err := s.NewJob(ines, in)
		says(t, what, err, x.want)
	}
	number, err := s.NewJob(ines, counted())
	if err != nil || number != "J-1001" {
		t.Fatal(number, err)
	}
	found, err := s.Store.FindCustomers("960147") // by the digits, however they were said
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	second := counted()
	second.Customer, second.Phone, second.Want = found[0].ID, "01632 960 999", "a stick reset"
	if number, err = s.NewJob(ines, second); err != nil || number != "J-1002" {
		t.Fatal(number, err)
	}
	if all, err := s.Store.FindCustomers("tidewater"); err != nil || len(all) != 1 || all[0].Telephone != "01632 960 999" {
		t.Errorf("%+v, %v", all, err)
	}
	if all, err := s.Store.FindCustomers("%"); err != nil || len(all) != 0 {
		t.Errorf("a sign of the database finds %+v, %v", all, err)
	}

	// Edited, given, waiting, signed.
	j, _, err := s.Store.Job("J-1001", "")
	if err != nil {
		t.Fatal(err)
	}
	in, err := s.IntakeOf(j)
	if err != nil {
		t.Fatal(err)
	}
	says(t, "nothing changed", s.EditJob(ines, "J-1001", in), "says already")
	in.Name, in.Keep = "Tidewater Animal Clinic", "the X-rays\r\nand the letters"
	says(t, "changed", s.EditJob(ines, "J-1001", in), "")
	for _, n := range []string{"J-1001", "J-1002"} { // the same customer is called the same everywhere
		if j, _, err := s.Store.Job(n, ""); err != nil || j.Customer != "Tidewater Animal Clinic" {
			t.Errorf("%+v, %v", j, err)
		}
	}
	says(t, "given to a reader", s.GiveJob(ines, "J-1001", rhea.ID), "cannot work on a job")
	says(t, "given to who has it", s.GiveJob(ines, "J-1001", ines.ID), "already")
	says(t, "waits without a reason", s.LetWait(ines, "J-1001", store.WaitsCustomer, " "), "not said")
	says(t, "waits for anybody", s.LetWait(ines, "J-1001", "godot", "he comes"), "the customer, the lead or a part")
	says(t, "waits", s.LetWait(ines, "J-1001", store.WaitsCustomer, "which letters"), "")
	says(t, "waits no longer", s.LetWait(ines, "J-1001", store.WaitsNot, ""), "")
	says(t, "waits no longer, twice", s.LetWait(ines, "J-1001", store.WaitsNot, ""), "waits for nobody")
	says(t, "signed", s.TakeConsent(ines, "J-1001", true), "")
	says(t, "signed twice", s.TakeConsent(ines, "J-1001", true), "already")
	says(t, "an empty note", s.AddNote(ines, "J-1001", "\n"), "not said")
	says(t, "a note", s.AddNote(ines, "J-1001", "<b>Lid</b> scratched"), "")

	// The chain tells of the job and names no customer.
	list, err := s.Store.Entries(store.Filter{Job: "J-1001"})
	if err != nil || len(list) != 5 {
		t.Errorf("%d entries, %v", len(list), err)
	}
	for _, e := range list {
		if strings.Contains(e.Text, "Tidewater") || strings.Contains(e.Text, "960") || e.Who != "Ines Marsh" {
			t.Errorf("%+v", e)
		}
	}
}

// A job is closed once nothing of it is left on the bench; what was kept goes on the day that was said, and not before.
func TestClosing(t *testing.T) {
	s, c := opened(t)
	c.open(t, s)
	ines := c.worker(t, s, "ines", "Ines Marsh", store.Worker)
	for range 2 {
		if _, err := s.NewJob(ines, counted()); err != nil {
			t.Fatal(err)
		}
	}
	for bay, serial := range map[string]string{"A": "AAA-1111", "B": "BBB-2222"} {
		if _, err := s.MakeBlank(ines, survey.Identity{Model: "stick", Serial: serial}, "64 MiB", 512, bay, "J-1001"); err != nil {
			t.Fatal(err)
		}
	}
	says(t, "a picture", s.AddPicture(ines, "J-1001", "the label", photograph(t, 40, 20)), "")
	day := c.now.AddDate(0, 0, 30).Format(time.DateOnly)
	says(t, "closed before it is handed over", s.CloseJob(ines, "J-1001", day, nil), "not handed over")
	says(t, "handed over until yesterday", s.HandOverJob(ines, "J-1001", c.now.AddDate(0, 0, -1).Format(time.DateOnly)), "to come")
	says(t, "handed over until some day", s.HandOverJob(ines, "J-1001", "some day"), "no day")
	says(t, "handed over", s.HandOverJob(ines, "J-1001", day), "")
	says(t, "handed over twice", s.HandOverJob(ines, "J-1001", day), "before")

	// A drive is moved to another job, and back.
	said, err := s.MoveDrive(ines, "B", "J-1002")
	says(t, "moved", err, "")
	if !strings.Contains(said, "J-1002") {
		t.Error(said)
	}
	_, err = s.MoveDrive(ines, "B", "J-1002")
	says(t, "moved twice", err, "there already")
	_, err = s.MoveDrive(ines, "B", "J-9999")
	says(t, "moved to nobody", err, "not found")
	_, err = s.MoveDrive(ines, "B", "J-1001")
	says(t, "moved back", err, "")

	says(t, "closed", s.CloseJob(ines, "J-1001", day, map[string]bool{"B": true}), "")
	bays, err := s.Store.Bays()
	if err != nil || bays[0].Image != nil || bays[1].Image == nil || bays[1].Job != nil {
		t.Errorf("after closing: %+v, %v", bays[:2], err)
	}
	says(t, "a note on a closed job", s.AddNote(ines, "J-1001", "late"), "closed")
	says(t, "a closed job changed", s.EditJob(ines, "J-1001", counted()), "closed")
	_, err = s.MoveDrive(ines, "B", "J-1001")
	says(t, "a drive for a closed job", err, "closed")
	says(t, "closed twice", s.CloseJob(ines, "J-1001", day, nil), "closed")

	// Kept until the day, and then no longer.
	notes, err := s.Store.Notes("J-1001")
	if err != nil || len(notes) != 1 {
		t.Fatal(notes, err)
	}
	_, err = s.ClearJob(ines, "J-1001")
	says(t, "taken away too soon", err, "kept still")
	c.now = c.now.AddDate(0, 0, 30)
	s.clearing()
	if _, err := s.Picture("J-1001", notes[0].ID); err != nil {
		t.Errorf("on the day itself it is gone: %v", err)
	}
	c.now = c.now.AddDate(0, 0, 1)
	s.clearing()
	if _, err := s.Picture("J-1001", notes[0].ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("after the day it is there: %v", err)
	}
	if left, _ := filepath.Glob(filepath.Join(s.Folder("pictures"), "*")); len(left) != 0 {
		t.Errorf("files are left: %v", left)
	}
	j, _, err := s.Store.Job("J-1001", "")
	if err != nil || j.ClearedAt == nil {
		t.Errorf("%+v, %v", j, err)
	}
	says(t, "opened again without a reason", s.ReopenJob(ines, "J-1001", ""), "not said")
	says(t, "opened again", s.ReopenJob(ines, "J-1001", "a file is missed"), "")
	says(t, "opened again twice", s.ReopenJob(ines, "J-1001", "more"), "is open")
	var acts []string
	list, err := s.EntriesOf("J-1001")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		acts = append(acts, string(e.Act))
	}
	want := "open-job attach attach hand-over attach detach attach close-job clear-job open-again"
	if got := strings.Join(acts, " "); len(strings.Fields(got)) < 8 || !strings.HasSuffix(got, "close-job clear-job open-again") {
		t.Errorf("the trail tells %s, about %s", got, want)
	}
	if report, err := s.Store.Entries(store.Filter{Act: string(trail.ActClearJob)}); err != nil || len(report) != 1 || !strings.Contains(report[0].Text, "1 picture") || !strings.Contains(report[0].Who, "as Ines Marsh had settled") {
		t.Errorf("%+v, %v", report, err)
	}
}

// photograph is a picture as a camera makes it, lying on its side, with the place where it was taken.
func photograph(t *testing.T, wide, high int) *bytes.Reader {
	t.Helper()
	im := image.NewRGBA(image.Rect(0, 0, wide, high))
	for x := range wide / 2 {
		for y := range high {
			im.Set(x, y, color.RGBA{255, 0, 0, 255})
		}
	}
	var plain bytes.Buffer
	if err := jpeg.Encode(&plain, im, nil); err != nil {
		t.Fatal(err)
	}
	// EXIF 2.3, section 4.5: an APP1 segment with the orientation 6 (a quarter turn) and a text that tells the place.
	tiff := []byte("MM\x00\x2a\x00\x00\x00\x08\x00\x02" +
		"\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00" +
		"\x01\x0e\x00\x02\x00\x00\x00\x14\x00\x00\x00\x26" + "\x00\x00\x00\x00" + "3 Quay St, 52.1N 1E\x00")
	exif := append([]byte("Exif\x00\x00"), tiff...)
	out := append([]byte{0xff, 0xd8, 0xff, 0xe1, 0, byte(len(exif) + 2)}, exif...)
	return bytes.NewReader(append(out, plain.Bytes()[2:]...))
}

func TestPictures(t *testing.T) {
	kept, err := plainPicture(photograph(t, 40, 20))
	if err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(kept, []byte("Quay")) || bytes.Contains(kept, []byte("Exif")) {
		t.Error("what the camera added is kept")
	}
	im, err := jpeg.Decode(bytes.NewReader(kept))
	if err != nil {
		t.Fatal(err)
	}
	if r, _, _, _ := im.At(10, 5).RGBA(); im.Bounds().Dx() != 20 || im.Bounds().Dy() != 40 || r < 0x8000 {
		t.Errorf("it lies as it came: %v", im.Bounds())
	}
	if kept, err = plainPicture(photograph(t, 3000, 1500)); err != nil {
		t.Fatal(err)
	}
	if c, err := jpeg.DecodeConfig(bytes.NewReader(kept)); err != nil || c.Height != longestSide || c.Width != longestSide/2 {
		t.Errorf("%+v, %v", c, err)
	}
	huge := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x01\x00\x00\x00\x01\x00\x00\x08\x02\x00\x00\x00\x00\x00\x00\x00")
	for what, x := range map[string][]byte{
		"nothing": nil, "a page": []byte("<html>"), "65536 pixels each way": huge, "half": kept[:len(kept)/3],
		"more than is taken": make([]byte, MaxPicture+1),
	} {
		if _, err := plainPicture(bytes.NewReader(x)); err == nil {
			t.Errorf("%s is kept as a picture", what)
		}
	}
	webp, err := base64.StdEncoding.DecodeString("UklGRhoAAABXRUJQVlA4TA0AAAAvAAAAEAcQERGIiP4HAA==")
	if err == nil {
		kept, err = plainPicture(bytes.NewReader(webp))
	}
	if c, e := jpeg.DecodeConfig(bytes.NewReader(kept)); err != nil || e != nil || c.Width != 1 {
		t.Errorf("a picture in the form WebP: %v, %v", err, e)
	}
	if _, err := plainPicture(strings.NewReader("\x00\x00\x00\x18ftypheic\x00\x00\x00\x00")); err == nil || !strings.Contains(err.Error(), "JPEG") {
		t.Errorf("a picture as some telephones send it: %v", err)
	}
}

// What a list shows of a drive is that drive as it is, however little it has changed and whatever its times say.
func TestGlance(t *testing.T) {
	s, c := opened(t)
	c.open(t, s)
	ines := c.worker(t, s, "ines", "Ines Marsh", store.Worker)
	if _, err := s.NewJob(ines, counted()); err != nil {
		t.Fatal(err)
	}
	for bay, serial := range map[string]string{"A": "AAA-1111", "B": "BBB-2222"} {
		if _, err := s.MakeBlank(ines, survey.Identity{Model: "stick", Serial: serial}, "64 MiB", 512, bay, "J-1001"); err != nil {
			t.Fatal(err)
		}
	}
	b, err := s.Bay("A")
	if err != nil {
		t.Fatal(err)
	}
	path := s.ImageOf(b)
	long := time.Now().Add(-time.Hour)
	kept := func() bool {
		s.glances.mu.Lock()
		defer s.glances.mu.Unlock()
		_, ok := s.glances.list[path]
		return ok
	}
	scheme := func() string {
		t.Helper()
		g, err := s.Glance(b)
		if err != nil {
			t.Fatal(err)
		}
		g.Layout.Findings = nil // one's own
		return string(g.Layout.Scheme)
	}
	if got := scheme(); got != "none" || kept() {
		t.Errorf("just made: %s, kept %v", got, kept())
	}
	time.Sleep(settledAfter + 100*time.Millisecond)
	if got := scheme(); got != "none" || !kept() {
		t.Errorf("left alone: %s, kept %v", got, kept())
	}
	im, err := disk.OpenImage(path, 0, true)
	if err != nil {
		t.Fatal(err)
	}
	boot := make([]byte, 512) // an MBR with one partition
	copy(boot[446:], []byte{0, 0, 2, 0, 0x0c, 0, 0, 0, 0, 8, 0, 0, 0, 0x10, 0, 0})
	boot[510], boot[511] = 0x55, 0xaa
	if _, err := im.WriteAt(boot, 0); err != nil {
		t.Fatal(err)
	}
	im.Close()
	if err := os.Chtimes(path, long, long); err != nil { // as if nothing had been written
		t.Fatal(err)
	}
	if got := scheme(); got != "mbr" {
		t.Errorf("with a table that was written behind its back: %s", got)
	}
	// Whoever gets a glance may write into it.
	g, err := s.Glance(b)
	if err != nil {
		t.Fatal(err)
	}
	g.Layout.Spans = g.Layout.Spans[:0]
	if again, err := s.Glance(b); err != nil || len(again.Layout.Spans) == 0 {
		t.Errorf("%+v, %v", again.Layout, err)
	}
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Glance(b); err == nil {
		t.Error("a drive that is gone is still shown")
	}
}

// What is on no shelf in a bay is not said to be taken away: the job waits for it, or for a lead. Each try tells what it
// took, once.
func TestClearedWhileAShelfIsOut(t *testing.T) {
	s, c := opened(t)
	lead := c.open(t, s)
	ines := c.worker(t, s, "ines", "Ines Marsh", store.Worker)
	if _, err := s.NewJob(ines, counted()); err != nil {
		t.Fatal(err)
	}
	says(t, "a picture", s.AddPicture(ines, "J-1001", "", photograph(t, 40, 20)), "")
	out := trail.Entry{ID: "e-out", Time: c.now, Who: "Ines Marsh", Act: trail.ActBackup, Job: "J-1001", Backup: "b-out"}
	if err := s.Store.Append(out); err != nil {
		t.Fatal(err)
	}
	day := c.now.AddDate(0, 0, 3).Format(time.DateOnly)
	says(t, "handed over", s.HandOverJob(ines, "J-1001", day), "")
	says(t, "closed", s.CloseJob(ines, "J-1001", day, nil), "")
	c.now = c.now.AddDate(0, 0, 4)
	told := func() (out []string) {
		t.Helper()
		list, err := s.Store.Entries(store.Filter{Job: "J-1001", Act: string(trail.ActClearJob)})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range list {
			out = append(out, e.Text)
		}
		return out
	}
	for range 3 { // an hour each
		s.clearing()
	}
	if got := told(); len(got) != 1 || !strings.Contains(got[0], "0 backups and 1 picture; 1 backup is on no shelf in a bay") {
		t.Errorf("it tells %q", got)
	}
	due, err := s.Due()
	if err != nil || len(due) != 1 || len(due[0].Away) != 1 {
		t.Errorf("%+v, %v", due, err)
	}
	said, err := s.ClearJob(lead, "J-1001")
	says(t, "settled by a lead", err, "")
	if due, err := s.Due(); err != nil || len(due) != 0 || !strings.Contains(said, "on no shelf") || len(told()) != 2 {
		t.Errorf("%q, %+v, %v", said, due, err)
	}
}
