// Package find reads which browsers and drivers a machine has: in the systems' usual
// places, on the path, in the agent's own directory of browsers, and those that the
// agent's settings name. What to look for is data (Products, Programs); the versions
// are read from the installations themselves.
package find

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
)

// Machine is where to look.
type Machine struct {
	OS, Arch string   // as Go calls them
	Root     string   // before every absolute place; "" on the machine itself
	Home     string   // the user's directory
	Local    string   // the user's directory of programs, on Windows
	Programs []string // the directories of programs, on Windows
	Path     []string // directories of programs
	Own      []string // directories of browsers, a folder for each installation; new ones go into the first
	Settings Settings
	// Run says what a program prints of itself; bare asks for a display besides.
	Run func(ctx context.Context, path string, display bool, args ...string) (string, error)
	// Cache is a file for what was read of each installation; "" reads anew.
	Cache string
}

// Here is this machine.
func Here() Machine {
	home, _ := os.UserHomeDir()
	return Machine{OS: runtime.GOOS, Arch: runtime.GOARCH, Home: home, Local: os.Getenv("LOCALAPPDATA"),
		Programs: []string{os.Getenv("ProgramFiles"), os.Getenv("ProgramFiles(x86)")},
		Path:     filepath.SplitList(os.Getenv("PATH")), Run: run}
}

// Found is what a machine has.
type Found struct {
	Browsers []fleet.Browser
	Drivers  []fleet.Driver
}

// candidate is something that may be a browser or a driver.
type candidate struct {
	product *Product
	program *Program
	path    string
	stamp   string
	from    fleet.Origin
	channel string
	named   *Installation
}

// Look lists the browsers, those that cannot be used included with the reason, and the
// drivers. Nothing is started but to ask it for its version.
func (m Machine) Look(ctx context.Context) Found {
	known := openCache(m.Cache)
	var all []candidate
	seen := map[string]bool{}
	add := func(c candidate) {
		real := c.path
		if r, err := filepath.EvalSymlinks(c.path); err == nil {
			real = r
		}
		if !seen[real] {
			seen[real] = true
			all = append(all, c)
		}
	}
	for i := range m.Settings.Browsers {
		n := &m.Settings.Browsers[i]
		add(candidate{product: n.product(), path: n.Path, from: fleet.Named, channel: n.Channel, named: n})
		if n.Driver != "" {
			add(candidate{program: programOf(n.Driver), path: n.Driver, from: fleet.Named})
		}
	}
	for _, path := range m.Settings.Drivers {
		add(candidate{program: programOf(path), path: path, from: fleet.Named})
	}
	for _, folder := range m.folders() {
		for _, c := range inside(folder) {
			add(c)
		}
	}
	for i := range Products {
		p := &Products[i]
		for _, at := range p.Places {
			for _, path := range m.places(at) {
				add(candidate{product: p, path: path, stamp: at.Stamp, from: fleet.System, channel: at.Channel})
			}
		}
	}
	for i := range Programs {
		p := &Programs[i]
		for _, at := range p.Places {
			for _, path := range m.places(at) {
				add(candidate{program: p, path: path, from: fleet.System})
			}
		}
		if path := m.onPath(p.Name); path != "" {
			add(candidate{program: p, path: path, from: fleet.OnPath})
		}
	}
	for i := range Products {
		for _, name := range Products[i].Path {
			if path := m.onPath(name); path != "" {
				add(candidate{product: &Products[i], path: path, from: fleet.OnPath})
			}
		}
	}
	var found Found
	found.Browsers = make([]fleet.Browser, 0, len(all))
	readings := make([]reading, len(all))
	var wg sync.WaitGroup
	turn := make(chan struct{}, 4) // a start of a browser costs a core for a tenth of a second
	for i, c := range all {
		wg.Go(func() {
			turn <- struct{}{}
			defer func() { <-turn }()
			readings[i] = known.read(ctx, m, c)
		})
	}
	wg.Wait()
	for i, c := range all {
		if c.product != nil {
			found.Browsers = append(found.Browsers, m.browser(c, readings[i]))
		} else {
			found.Drivers = append(found.Drivers, m.driver(c, readings[i]))
		}
	}
	known.save(all)
	found.Browsers, found.Drivers = fleet.Pair(fleet.Once(found.Browsers), found.Drivers)
	order := func(name string) int {
		return slices.IndexFunc(Products, func(p Product) bool { return p.Name == name })
	}
	slices.SortStableFunc(found.Browsers, func(a, b fleet.Browser) int {
		return cmp.Or(cmp.Compare(uint(order(a.Name)), uint(order(b.Name))), cmp.Compare(a.Name, b.Name),
			cmp.Compare(combo.Early(a.Channel), combo.Early(b.Channel)), combo.CompareVersions(b.Version, a.Version))
	})
	slices.SortStableFunc(found.Drivers, func(a, b fleet.Driver) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), combo.CompareVersions(b.Version, a.Version))
	})
	return found
}

func (m Machine) browser(c candidate, r reading) fleet.Browser {
	b := fleet.Browser{Name: c.product.Name, Engine: c.product.Engine, Version: r.Version, Channel: cmp.Or(c.channel, r.Channel),
		Arch: cmp.Or(r.Arch, m.Arch), From: c.from, Path: c.path}
	if r.Name != "" && c.named == nil {
		b.Name = r.Name
	}
	if c.named != nil {
		b.Driver, b.Base = c.named.Driver, c.named.Base
	}
	switch {
	case r.Problem != "":
		b.Problem, b.Remedy = r.Problem, cmp.Or(c.product.Get, "install "+c.product.Title+" anew, or remove "+c.path)
	case r.Arch != "" && r.Arch != m.Arch:
		b.Problem = "it is made for " + r.Arch + ", this machine is " + m.Arch
		b.Remedy = "install the one for " + m.Arch
	default:
		for _, n := range c.product.Needs {
			if n.Program != "" && m.onPath(n.Program) == "" || n.File != "" && len(m.glob(n.File)) == 0 {
				b.Problem, b.Remedy = n.Problem, n.Remedy
			}
		}
	}
	return b
}

func (m Machine) driver(c candidate, r reading) fleet.Driver {
	d := fleet.Driver{Name: c.program.Name, Version: r.Version, Path: c.path, Arch: r.Arch, From: c.from, Serves: []string{},
		Problem: r.Problem}
	switch {
	case r.Problem != "":
		d.Remedy = "install it anew, or remove it"
	case r.Arch != "" && r.Arch != m.Arch:
		d.Problem, d.Remedy = "it is made for "+r.Arch+", this machine is "+m.Arch, "install the one for "+m.Arch
	}
	return d
}

// places lists the programs that are at a place.
func (m Machine) places(p Place) []string {
	if p.OS != m.OS {
		return nil
	}
	var out []string
	for _, programs := range append(slices.Clip(m.Programs), "") {
		if strings.Contains(p.Program, "{programs}") == (programs == "") {
			continue
		}
		if strings.Contains(p.Program, "{local}") && m.Local == "" {
			continue
		}
		out = append(out, m.glob(strings.NewReplacer("{home}", m.Home, "{local}", m.Local, "{programs}", programs).Replace(p.Program))...)
	}
	return out
}

func (m Machine) glob(pattern string) []string {
	found, _ := filepath.Glob(m.Root + pattern)
	return slices.DeleteFunc(found, func(path string) bool {
		info, err := os.Stat(path)
		return err != nil || info.IsDir()
	})
}

func (m Machine) onPath(name string) string {
	for _, dir := range m.Path {
		for _, ext := range []string{"", ".exe"} {
			path := filepath.Join(m.Root+dir, name+ext)
			if info, err := os.Stat(path); err == nil && !info.IsDir() && (m.OS == "windows" || info.Mode()&0o111 != 0) {
				return path
			}
		}
	}
	return ""
}

// folders are those of the agent's own directory, one for each installation. One whose
// name begins with a dot is not whole yet.
func (m Machine) folders() (out []string) {
	for _, own := range m.Own {
		entries, _ := os.ReadDir(own) // one that is not there holds none
		for _, e := range entries {
			if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
				out = append(out, filepath.Join(own, e.Name()))
			}
		}
	}
	return out
}

// inside lists the browser and the driver in the folder of one installation: the first
// of each that one of the patterns finds.
func inside(folder string) (out []candidate) {
	first := func(patterns []string) string {
		for _, p := range patterns {
			found, _ := filepath.Glob(filepath.Join(folder, p))
			for _, path := range found {
				if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
					return path
				}
			}
		}
		return ""
	}
	for i := range Products {
		if path := first(Products[i].Folder); path != "" {
			out = append(out, candidate{product: &Products[i], path: path, from: fleet.Stocked})
			break
		}
	}
	for i := range Programs {
		if path := first(Programs[i].Folder); path != "" {
			out = append(out, candidate{program: &Programs[i], path: path, from: fleet.Stocked})
		}
	}
	return out
}

func programOf(path string) *Program {
	name := strings.TrimSuffix(filepath.Base(path), ".exe")
	for i := range Programs {
		if strings.HasPrefix(strings.ToLower(name), strings.ToLower(Programs[i].Name)) {
			return &Programs[i]
		}
	}
	return &Program{Name: "chromedriver"}
}

// Within says what the folder of one installation holds, whatever else the machine has.
func (m Machine) Within(ctx context.Context, folder string) (f Found) {
	for _, c := range inside(folder) {
		r := read(ctx, m, c)
		if c.product != nil {
			f.Browsers = append(f.Browsers, m.browser(c, r))
		} else {
			f.Drivers = append(f.Drivers, m.driver(c, r))
		}
	}
	return f
}
