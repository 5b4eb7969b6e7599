package web

import (
	"bytes"
	"encoding/csv"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/report"
	"jadetrail/app/store"
	"jadetrail/core/trail"
)

// handOverRoutes are the addresses of what is handed over.
func (s *Server) handOverRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job/hand-over", s.handOverPage)
	in.GET("/jobs/:job/report.pdf", s.reportPDF)
	in.GET("/jobs/:job/archive.zip", s.archive)
	in.GET("/jobs/:job/tables/:what", s.jobCSV)
}

type handOverView struct {
	*report.Report
	Bay          string
	It           *store.Job
	Until, Today string
}

func (s *Server) handOverPage(c *gin.Context) {
	r, j, err := s.Report(me(c), c.Param("job"))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "handover", page{
		Title: "Hand over " + j.Number, Here: "handover", Body: handOverView{
			Report: r, Bay: bayOf(c), It: j, Until: s.untilOf(j), Today: s.Now().Format(time.DateOnly),
		},
		Crumbs: []crumb{
			{"Bench", "/"}, {j.Number + " " + j.Customer, pageOf(j.Number, bayOf(c), "")}, {"Hand over", ""},
		},
	})
}

// reportPDF hands the report out as a PDF file.
func (s *Server) reportPDF(c *gin.Context) {
	r, j, err := s.Report(me(c), c.Param("job"))
	var b bytes.Buffer
	if err == nil {
		err = r.PDF(&b)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, j.Number+" report.pdf")
	c.Data(http.StatusOK, "application/pdf", b.Bytes())
}

// jobCSV hands out a job's entries or records as a table.
func (s *Server) jobCSV(c *gin.Context) {
	number, what := c.Param("job"), c.Param("what")
	rows, err := s.Table(number, what)
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, number+" "+what)
	c.Header("Content-Type", "text/csv; charset=utf-8")
	w := csv.NewWriter(c.Writer)
	for _, row := range rows {
		for i := range row { // a program that reads tables must not take a text for a formula
			if row[i] != "" && strings.ContainsAny(row[i][:1], "=+-@\t\r") {
				row[i] = "'" + row[i]
			}
		}
		if err := w.Write(row); err != nil {
			c.Error(err)
			return
		}
	}
	w.Flush()
}

// archive hands a job out as one open zip.
func (s *Server) archive(c *gin.Context) {
	r, j, err := s.Report(me(c), c.Param("job"))
	var list []trail.Entry
	if err == nil {
		list, err = s.EntriesOf(j.Number)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, j.Number+".zip")
	c.Header("Content-Type", "application/zip")
	if err := s.WriteArchive(c.Request.Context(), c.Writer, j, r, list); err != nil {
		c.Error(err)
	}
}
