package order

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"

	"parallelpane/internal/core/suite"
	"parallelpane/internal/project"
	"parallelpane/internal/store"
)

// nameLine is where a script says its name.
var nameLine = regexp.MustCompile(`(?m)^name:.*$`)

// renamed finds the tests of an order that had other names in the run of its suite before,
// by the content of their files. Where the files of that run are gone nothing is found.
func (desk *Desk) renamed(ctx context.Context, o *order) ([]suite.Rename, error) {
	last, err := desk.store.Runs(ctx, store.RunFilter{Project: o.project.Name, Suite: o.suite.Name, Limit: 1})
	if err != nil || len(last) == 0 || last[0].Bundle == o.req.Bundle || !desk.blobs.Has(last[0].Bundle) {
		return nil, err
	}
	archive, err := desk.openBundle(last[0].Bundle)
	if err != nil {
		return nil, nil // it is no reason to refuse the order
	}
	_, _, before, err := loadSuite(archive, o.suite.Name)
	if err != nil {
		return nil, nil // nor is a suite that cannot be read any more
	}
	then, now := titles(before), titles(o.all)
	was, err := units(archive, then, now)
	if err != nil || len(was) == 0 {
		return nil, err
	}
	is, err := units(o.files, now, then)
	if err != nil {
		return nil, err
	}
	found := suite.Renamed(was, is)
	if len(found) == 0 {
		return nil, nil
	}
	known, err := desk.store.KnownTests(ctx, o.project.Name, o.suite.Name)
	return slices.DeleteFunc(found, func(x suite.Rename) bool { return slices.Contains(known, x.Is) }), err
}

// titles are what the tests of cases are called, or begin with, with their files.
func titles(cases []suite.Case) map[string]string {
	out := map[string]string{}
	for _, c := range cases {
		title := c.Name
		if c.Row != nil {
			title = strings.TrimSuffix(c.Name, suite.Part+c.Row.Name)
		}
		if c.File != "" {
			out[title] = c.File
		}
	}
	return out
}

// units are what is called so here, and not there.
func units(files *project.Archive, here, there map[string]string) (out []suite.Unit, err error) {
	only := map[string]string{}
	for title, file := range here {
		if _, both := there[title]; !both {
			only[title] = file
		}
	}
	if len(only) == 0 {
		return nil, nil
	}
	prints, err := files.Prints(slices.Collect(maps.Values(only)), func(name string, body []byte) []byte {
		if strings.HasSuffix(name, suite.ScriptSuffix) {
			return nameLine.ReplaceAll(body, nil)
		}
		return body
	})
	if err != nil {
		return nil, err
	}
	for title, file := range only {
		out = append(out, suite.Unit{Title: title, Print: prints[file]})
	}
	return out, nil
}
