package disk

// What some devices can do besides being read and written, each asked for where it serves.

// Knower is a device of which it can be known, without reading, that a place cannot be read.
type Knower interface {
	// Hurt is the bad place that reading n bytes at off would meet, nil for none that is known.
	Hurt(off, n Bytes) error
}

// Sharer is a device that several can read at once, and one alone can write.
type Sharer interface {
	// Share keeps writers out, of other processes too, while the device is read as a whole; ErrInUse when one is at
	// work.
	Share() error
}

// Cached is a device that the host keeps parts of in memory.
type Cached interface {
	// Forget has the host forget what it keeps of n bytes at off, so that they are read from the medium next.
	Forget(off, n Bytes) error
	// Prefetch has n bytes at off read meanwhile; it is a hint.
	Prefetch(off, n Bytes)
}

// Refresher is a device that can be read past what the host keeps in memory.
type Refresher interface {
	// Fresh reads n bytes at off from the medium, into buf where that is long enough.
	Fresh(off, n Bytes, buf []byte) ([]byte, error)
}

// Hurrier is a device that can be asked to begin with writing.
type Hurrier interface {
	// Hurry begins to put n bytes at off onto the medium, without waiting.
	Hurry(off, n Bytes)
}
