package run

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// noteContents reads every file that the plan leaves in its volume, and keeps the hashes in
// the run's folder for the comparison afterwards.
func noteContents(p *rehearse.Run, dev disk.Device, dir string, report func(carry.Progress)) error {
	sv, err := survey.Read(dev, p.Meta.PC)
	if err != nil {
		return err
	}
	total := disk.Bytes(0)
	if err := staying(p, sv, func(_ int, _ volume.Volume, x volume.File) error { total += x.Bytes; return nil }); err != nil {
		return err
	}
	at := prove.Counting("reading every file before the run", total, report)
	f, err := os.Create(filepath.Join(dir, ran.ContentsFile))
	if err != nil {
		return err
	}
	defer f.Close()
	w, b := bufio.NewWriter(f), make([]byte, disk.MiB)
	out := json.NewEncoder(w)
	err = staying(p, sv, func(number int, v volume.Volume, x volume.File) error {
		c := prove.Content{Number: number, Path: x.Path, Stream: x.Stream, Bytes: x.Bytes}
		if h, err := prove.ReadWhole(v, x, b, at); err == nil {
			c.Hash = h
		}
		return out.Encode(c)
	})
	if err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Sync()
}

// staying visits every file that the plan leaves in its volume.
func staying(p *rehearse.Run, sv *survey.Survey, visit func(number int, v volume.Volume, x volume.File) error) error {
	for _, was := range sv.Layout.Partitions() {
		now, stays := p.Meta.After.Find(was.Number)
		v := sv.Volume(was.Number)
		if !stays || v == nil || now.Volume == nil || now.Volume.Serial != was.Volume.Serial {
			continue
		}
		taken := p.TakenFrom(was.Number)
		if err := v.Walk(func(x volume.File) error {
			if x.Kind != volume.Plain || rehearse.IsBelow(x.Path, taken) {
				return nil
			}
			return visit(was.Number, v, x)
		}); err != nil {
			return err
		}
	}
	return nil
}
