// Package demo composes the demonstration: the Saltmarsh Harbour project and
// the berth desk it tests (package desk).
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"parallelpane/examples"
	"parallelpane/internal/api"
	"parallelpane/internal/project"
)

//go:embed all:saltmarsh
var saltmarsh embed.FS

// Fleet describes the demo's simulated agents, for pane standin fleet.
//
//go:embed fleet.yaml
var Fleet []byte

// siteInFile is the address that the project's file names.
const (
	siteInFile = "http://127.0.0.1:7480"
	nextInFile = "http://127.0.0.1:7481"
)

// WriteProject writes the demo project to a directory, with the address of the
// berth desk and the suites in other languages.
func WriteProject(dir, site, next string) error {
	languages := filepath.Join(dir, "languages")
	if err := write(examples.Files, ".", languages, site, next); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(languages, project.FileName)); err != nil { // that of the examples alone
		return fmt.Errorf("write the demo project: %w", err)
	}
	return write(saltmarsh, "saltmarsh", dir, site, next)
}

func write(files embed.FS, root, dir, site, next string) error {
	return fs.WalkDir(files, root, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, filepath.FromSlash(name))
		if err != nil {
			return err
		}
		to := filepath.Join(dir, rel)
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		src, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		if rel == "pane.yaml" {
			src = bytes.ReplaceAll(src, []byte(siteInFile), []byte(site))
			src = bytes.ReplaceAll(src, []byte(nextInFile), []byte(next))
		}
		if err := os.WriteFile(to, src, 0o644); err != nil {
			return fmt.Errorf("write the demo project: %w", err)
		}
		return nil
	})
}

// Languages is the run of the suites in other languages beside the scripts.
func Languages() api.RunRequest {
	return api.RunRequest{Suite: "everything", Matrix: "languages", Retries: 1}
}

// Request is the run that the demo makes: a retry shows which test is unsteady.
func Request() api.RunRequest { return api.RunRequest{Retries: 1} }
