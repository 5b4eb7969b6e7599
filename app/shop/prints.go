package shop

import (
	"sync"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// prints are the fingerprints of partitions that pages have asked for, kept as long as nobody has written to the drive:
// of one that cannot be looked into, all of it has to be read. What is carried out goes by the bytes, and not by these.
type prints struct {
	mu   sync.Mutex
	list map[printed]string
}

// printed is a stretch of a drive as its files were then.
type printed struct {
	path       string
	stamp      [4]fileStamp
	start, end disk.LBA
}

// mostPrints is how many are kept.
const mostPrints = 2000

// of returns what is kept of a drive, and keeps more of it; both nil while it is being written to.
func (x *prints) of(path string) (get func(layout.Span) string, put func(layout.Span, string)) {
	stamp, settled := stampOf(path, time.Now())
	if !settled || stamp[0] == (fileStamp{}) {
		return nil, nil
	}
	key := func(p layout.Span) printed { return printed{path, stamp, p.Start, p.End} }
	get = func(p layout.Span) string {
		x.mu.Lock()
		defer x.mu.Unlock()
		return x.list[key(p)]
	}
	put = func(p layout.Span, print string) {
		if after, _ := stampOf(path, time.Now()); after != stamp {
			return
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.list == nil || len(x.list) >= mostPrints {
			x.list = map[printed]string{}
		}
		x.list[key(p)] = print
	}
	return get, put
}
