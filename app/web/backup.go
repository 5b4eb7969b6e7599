package web

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/work"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
)

// backUp makes the backup of one partition, or all that the plan misses.
func (s *Server) backUp(c *gin.Context) {
	var only *int
	if n, err := strconv.Atoi(c.PostForm("partition")); err == nil && c.PostForm("all") == "" {
		only = &n
	}
	kind := shelf.Image
	if c.PostForm("kind") == string(shelf.Files) {
		kind = shelf.Files
	}
	sh := s.shelfFor(c)
	if c.PostForm("onto") == sh.To {
		s.sessions.Put(c.Request.Context(), chosenShelf, sh.To)
	}
	s.begun(c, s.backUpTo(placeOf(c), sh, kind, only))
}

// missingBackups are the partitions whose backup the plan of a job misses.
func (s *Server) missingBackups(at Place) (numbers []int, err error) {
	st, err := s.workOut(at.Job, at.Bay)
	if err != nil {
		return nil, err
	}
	defer st.Drive.close()
	backups, releases, _ := st.missing()
	for _, o := range append(backups, releases...) {
		if o.Code == plan.BackupMissing || o.AsksFor(plan.LiftBackup) { // with a backup nothing is waived
			numbers = append(numbers, o.Partitions...)
		}
	}
	return numbers, nil
}

// backUpTo begins to make the backup of one partition onto a shelf; with only nil, all that the plan of the job
// misses.
func (s *Server) backUpTo(at Place, sh *shelf.Shelf, kind shelf.Kind, only *int) error {
	var numbers []int
	if only != nil {
		numbers = []int{*only}
	} else {
		var err error
		if numbers, err = s.missingBackups(at); err != nil {
			return err
		}
	}
	if len(numbers) == 0 {
		return errors.New("no backup is missing")
	}
	return s.begin(at, undertaking{kind: "back-up", title: "Backup", do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		o.Shelf = sh
		var made []string
		for i, n := range numbers {
			kind := kind
			if w.drive.sv.Volumes[n] == nil {
				kind = shelf.Image // its files cannot be read
			}
			m, err := run.BackUp(ctx, o, run.Wanted{Partition: n, Kind: kind}, func(p shelf.Progress) {
				w.report(work.Update{Phase: p.Phase, Step: i, Done: p.Done, Total: p.Total})
			})
			if errors.Is(err, context.Canceled) {
				return "", errors.New("the backup was stopped; what had been written was taken away")
			}
			if err != nil {
				return "", err
			}
			made = append(made, fmt.Sprintf("%s, %s on the shelf, %s", m.From.Span.Title(), m.Stored, m.Where()))
		}
		return "Backed up and verified by reading back: " + strings.Join(made, "; ") + ".", nil
	}})
}
