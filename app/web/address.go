package web

import (
	"fmt"
	"net/url"
	"strings"
)

// The addresses of a job's pages and acts are made here, for handlers and templates alike.

// pageOf is the address of a page or an act of a job, about the drive in a bay: "" is the job's own page, and "" as
// the bay leaves it to the job which of its drives it is. query is more of the address, in pairs of a name and what
// it stands for, a text or a whole number; a pair without that is left out.
func pageOf(job, bay, name string, query ...any) string {
	path := "/jobs/" + url.PathEscape(job)
	if name != "" {
		path += "/" + name
	}
	var list []string
	add := func(key, value string) {
		if value != "" {
			list = append(list, key+"="+url.QueryEscape(value))
		}
	}
	add("bay", bay)
	for i := 0; i+1 < len(query); i += 2 {
		add(fmt.Sprint(query[i]), fmt.Sprint(query[i+1]))
	}
	if len(list) == 0 {
		return path
	}
	return path + "?" + strings.Join(list, "&")
}

// actOf is the address of an act that is about the plan as a page shows it.
func actOf(job, bay string, plan uint64, name string) string {
	return pageOf(job, bay, name, "plan", plan)
}

// seenActOf is the address of an act that is about the plan and the drive as a page shows them.
func seenActOf(job, bay string, plan uint64, drive, name string) string {
	return pageOf(job, bay, name, "plan", plan, "drive", drive)
}
