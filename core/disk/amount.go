package disk

import (
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"strings"
)

// ErrAmount is returned for a text that is no amount.
var ErrAmount = errors.New("not an amount")

var shareForm = regexp.MustCompile(`^([0-9]+(?:[.,][0-9]+)?) ?%$|^([0-9]{1,4})/([0-9]{1,4})$`)

var shareWords = map[string][2]int64{
	"all": {1, 1}, "half": {1, 2}, "a half": {1, 2}, "third": {1, 3}, "a third": {1, 3}, "quarter": {1, 4},
	"a quarter": {1, 4},
}

// rest is what an amount leaves of the whole, in the words for that.
func rest(t string) (string, bool) {
	if r, ok := strings.CutPrefix(t, "all but "); ok {
		return r, true
	}
	if r, ok := strings.CutPrefix(t, "leave "); ok {
		return strings.TrimSuffix(r, " free"), true
	}
	return "", false
}

// share reads an amount that is a share of the whole.
func share(t string, whole Bytes) (Bytes, bool) {
	w := big.NewInt(int64(whole))
	if f, ok := shareWords[t]; ok {
		return Bytes(w.Mul(w, big.NewInt(f[0])).Div(w, big.NewInt(f[1])).Int64()), true
	}
	m := shareForm.FindStringSubmatch(t)
	if m == nil || len(m[1]) > 12 {
		return 0, false
	}
	text := m[2] + "/" + m[3]
	if m[1] != "" {
		text = strings.Replace(m[1], ",", ".", 1)
	}
	r, ok := new(big.Rat).SetString(text)
	if !ok { // by nothing
		return 0, false
	}
	if m[1] != "" {
		r.Quo(r, big.NewRat(100, 1))
	}
	if r.Cmp(big.NewRat(1, 1)) > 0 {
		return 0, false
	}
	r.Mul(r, new(big.Rat).SetInt(w))
	return Bytes(new(big.Int).Quo(r.Num(), r.Denom()).Int64()), true
}

// Relative tells whether what a text means depends on what there is: all, half, 25 %, all
// but 20 GiB.
func Relative(text string) bool {
	t := strings.ToLower(strings.Join(strings.Fields(text), " "))
	_, leaves := rest(t)
	_, shares := share(t, 1)
	return leaves || shares
}

var amountForm = regexp.MustCompile(`^\+?([0-9]+(?:[.,][0-9]+)?)\s*([a-z]+)$`)

var units = map[string]int64{
	"b": 1, "byte": 1, "bytes": 1,
	"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40,
	"kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12,
}

// ParseAmount reads an amount as people write it: `42 GiB`, `43008 MiB`,
// `45 GB`, `+7 GiB`, `half`, `1/3`, `25 %`, `all`, `all but 20 GiB`, `leave 20 GiB free`.
// whole is what `all` means. The result is in bytes, not aligned, and between 1 and whole.
func ParseAmount(text string, whole Bytes) (Bytes, error) {
	t := strings.ToLower(strings.Join(strings.Fields(text), " "))
	switch {
	case t == "":
		return 0, fmt.Errorf("%w: nothing was entered; write for example 42 GiB, 45 GB, half or all", ErrAmount)
	case strings.HasPrefix(t, "-"):
		return 0, fmt.Errorf("%w: %q is negative; an amount is what is added, for example 42 GiB", ErrAmount, text)
	}
	if text, leaves := rest(t); leaves {
		kept, err := ParseAmount(text, whole)
		if err != nil {
			return 0, err
		}
		return atLeastOne(t, whole-kept)
	}
	if b, ok := share(t, whole); ok {
		return atLeastOne(t, b)
	}
	m := amountForm.FindStringSubmatch(t)
	if m == nil {
		return 0, fmt.Errorf(
			"%w: %q; write a number and a unit, for example 42 GiB, 43008 MiB, 45 GB, half or all", ErrAmount, text,
		)
	}
	u, ok := units[m[2]]
	if !ok {
		return 0, fmt.Errorf(
			"%w: %q has the unknown unit %q; use B, KiB, MiB, GiB, TiB, kB, MB, GB or TB", ErrAmount, text, m[2],
		)
	}
	r, ok := new(big.Rat).SetString(strings.Replace(m[1], ",", ".", 1))
	if !ok || len(m[1]) > 30 {
		return 0, fmt.Errorf("%w: %q", ErrAmount, text)
	}
	r.Mul(r, new(big.Rat).SetInt64(u))
	n := new(big.Int).Quo(r.Num(), r.Denom())
	switch {
	case whole <= 0:
		return 0, tooMuch("there is no room at all")
	case !n.IsInt64():
		return 0, tooMuch(strings.TrimSpace(text) + " is more than any drive has")
	case Bytes(n.Int64()) > whole:
		return 0, tooMuch(fmt.Sprintf("%s is more than the %s there is", Bytes(n.Int64()), whole))
	}
	return atLeastOne(text, Bytes(n.Int64()))
}

// tooMuch is an amount that there is not: ErrAmount in words of its own.
type tooMuch string

func (e tooMuch) Error() string { return string(e) }

// Is makes it ErrAmount.
func (e tooMuch) Is(target error) bool { return target == ErrAmount }

func atLeastOne(text string, b Bytes) (Bytes, error) {
	if b < 1 {
		return 0, fmt.Errorf("%w: %s leaves nothing to do", ErrAmount, strings.TrimSpace(text))
	}
	return b, nil
}

// String words b in the largest binary unit that keeps it above 1, with three
// or four figures: 138.0 GiB.
func (b Bytes) String() string { return word(b, 1024, " KiB", " MiB", " GiB", " TiB") }

// Decimal words b in decimal units: 148.2 GB.
func (b Bytes) Decimal() string { return word(b, 1000, " kB", " MB", " GB", " TB") }

func word(b Bytes, base float64, names ...string) string {
	if b < 0 {
		return "-" + word(-b, base, names...)
	}
	v, name := float64(b), ""
	for _, n := range names {
		if v < base {
			break
		}
		v, name = v/base, n
	}
	switch {
	case name == "":
		return fmt.Sprintf("%d B", b)
	case v == float64(int64(v)):
		return fmt.Sprintf("%d%s", int64(v), name)
	case v < 10:
		return fmt.Sprintf("%.2f%s", v, name)
	default:
		return fmt.Sprintf("%.1f%s", v, name)
	}
}

// Exact words b to the byte with thin groups: 148 176 371 712 bytes.
func (b Bytes) Exact() string { return Grouped(int64(b)) + " bytes" }

// Grouped words n in groups of three figures, parted by no-break spaces.
func Grouped(n int64) string {
	if n < 0 {
		return "-" + Grouped(-n)
	}
	if n < 1000 {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("%s\u00a0%03d", Grouped(n/1000), n%1000)
}

// Maker is a drive's size as its maker's label has it: decimal, in whole mega- or gigabytes, or tenths of
// terabytes.
func (b Bytes) Maker() string {
	if b < 999500000 {
		return fmt.Sprintf("%.0f MB", float64(b)/1e6)
	}
	if gb := float64(b) / 1e9; gb < 999.5 {
		return fmt.Sprintf("%.0f GB", gb)
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", float64(b)/1e12), ".0") + " TB"
}
