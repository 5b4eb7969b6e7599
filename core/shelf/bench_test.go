package shelf

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// BenchmarkMake backs up and verifies bytes that do not compress.
func BenchmarkMake(b *testing.B) {
	const size = 1 << 30
	dir := os.Getenv("BENCH_DIR")
	if dir == "" {
		dir = b.TempDir()
	}
	im, err := disk.CreateImage(filepath.Join(b.TempDir(), "d.img"), size, 512)
	if err != nil {
		b.Fatal(err)
	}
	defer im.Close()
	for at := int64(0); at < size; at += 64 << 20 {
		im.WriteAt(noise(64<<20), at)
	}
	b.SetBytes(size)
	for b.Loop() {
		sh, _ := Open(filepath.Join(dir, "shelf"))
		m, err := sh.Make(context.Background(), Request{Kind: Image, ID: "b-1", Now: day, Dev: im, From: Origin{Sector: 512, Span: layout.Span{Bytes: size}}}, nil)
		if err != nil {
			b.Fatal(err)
		}
		if m.Stored < disk.GiB {
			b.Fatal("it compressed")
		}
		os.RemoveAll(sh.Dir)
	}
}
