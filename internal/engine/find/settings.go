package find

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"go.yaml.in/yaml/v3"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
)

// Settings are what an agent's own file, agent.yaml, says of browsers.
type Settings struct {
	Browsers []Installation `yaml:"browsers"`
	Drivers  []string       `yaml:"drivers"` // paths of programs
	// Stock says whether the service may add browsers: unless it is false.
	Stock *bool `yaml:"stock"`
	// Phones is the address of the adb server whose phones are offered; "" offers none.
	Phones string `yaml:"phones"`
}

// Installation is one browser that the settings name.
type Installation struct {
	Path    string `yaml:"path"`
	Name    string `yaml:"name"`    // value of the axis browser; "" takes what the program is known as
	Driver  string `yaml:"driver"`  // path; "" takes the one that fits
	Channel string `yaml:"channel"` // "" takes what the installation says
	Base    string `yaml:"base"`    // version of the Chromium it is made from, where that is not its own
}

// ReadSettings reads an agent.yaml. Errors name the line.
func ReadSettings(file string) (s Settings, err error) {
	f, err := os.Open(file)
	if err != nil {
		return s, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, 1<<20+1))
	if err != nil {
		return s, err
	}
	if len(raw) > 1<<20 {
		return s, fmt.Errorf("%s: at most 1 MB is read", file)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(raw, &doc); err != nil {
		return s, fmt.Errorf("%s: %w", file, err)
	}
	if len(doc.Content) == 0 {
		return s, nil
	}
	if err := known(&doc, raw, &s); err != nil {
		return s, fmt.Errorf("%s: %w", file, err)
	}
	lines := linesOf(doc.Content[0], "browsers")
	for i := range s.Browsers {
		b := &s.Browsers[i]
		if err := b.settle(filepath.Dir(file)); err != nil {
			return s, fmt.Errorf("%s:%d: %w", file, lines[i], err)
		}
		for k := range i {
			if s.Browsers[k].Path == b.Path {
				return s, fmt.Errorf("%s:%d: %s stands in line %d already", file, lines[i], b.Path, lines[k])
			}
		}
	}
	for i, d := range s.Drivers {
		s.Drivers[i] = from(filepath.Dir(file), d)
	}
	return s, nil
}

func (n *Installation) settle(dir string) error {
	if n.Path == "" {
		return errors.New("path: expected the browser's program")
	}
	n.Path = from(dir, n.Path)
	if n.Driver != "" {
		n.Driver = from(dir, n.Driver)
	}
	if n.Name != "" && !fleet.IsName(n.Name) {
		return fmt.Errorf("name: %q is no name: letters, digits, '.', '-' and '_', at most 64", n.Name)
	}
	if n.Channel != "" && !slices.Contains(combo.Channels, n.Channel) {
		return fmt.Errorf("channel: %q is none of %v", n.Channel, combo.Channels)
	}
	if n.Base != "" {
		if _, err := combo.ParseSelector(n.Base); err != nil {
			return fmt.Errorf("base: expected a version of Chromium such as 126.0.6478.55, found %q", n.Base)
		}
	}
	return nil
}

// product is the browser that an installation is, by its name or by its program's. One
// with a name of its own is made from Chromium.
func (n *Installation) product() *Product {
	base := filepath.Base(n.Path)
	for i := range Products {
		p := &Products[i]
		if n.Name == p.Name || n.Name == "" && (slices.Contains(p.Path, base) || slices.ContainsFunc(p.Folder, func(f string) bool {
			return filepath.Base(f) == base
		})) {
			return p
		}
	}
	name := n.Name
	if name == "" {
		name = base
	}
	return &Product{Name: name, Engine: "chromium", Title: name}
}

func from(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// known decodes strictly: a key that is not known is an error with its line.
func known(doc *yaml.Node, raw []byte, into any) error {
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	dec.KnownFields(true)
	return dec.Decode(into)
}

// linesOf are the lines of the elements of a list.
func linesOf(m *yaml.Node, key string) (out []int) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			for _, e := range m.Content[i+1].Content {
				out = append(out, e.Line)
			}
		}
	}
	return out
}
