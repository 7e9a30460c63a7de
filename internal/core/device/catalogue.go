package device

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Family is a kind of device.
type Family string

// The families, from large to small.
const (
	Desktop  Family = "desktop"
	Laptop   Family = "laptop"
	Tablet   Family = "tablet"
	Foldable Family = "foldable"
	Phone    Family = "phone"
)

// Families lists them.
var Families = []Family{Desktop, Laptop, Tablet, Foldable, Phone}

// Default is the profile of a combination that names none.
const Default = "desktop"

// common says where the figures of a profile come from that is no one model's.
const common = "no one model: a common size of its kind"

// plain are profiles that are no one model's, from large to small.
var plain = []Profile{
	{Name: "wall-display", Title: "wall display, 4K", Family: Desktop, Size: Size{3840, 2160}, Density: 1},
	{Name: "desktop-large", Title: "large desktop", Family: Desktop, Size: Size{1920, 1080}, Density: 1},
	{Name: "desktop", Title: "desktop", Family: Desktop, Size: Size{1280, 800}, Density: 1},
	{Name: "desktop-dense", Title: "desktop, dense display", Family: Desktop, Size: Size{1440, 900}, Density: 2},
	{Name: "laptop", Title: "laptop", Family: Laptop, Size: Size{1366, 768}, Density: 1},
	{Name: "laptop-scaled", Title: "laptop with full HD, scaled by 125 %", Family: Laptop, Size: Size{1536, 864}, Density: 1.25},
	{Name: "laptop-touch", Title: "laptop with a touch screen", Family: Laptop, Size: Size{1366, 768}, Density: 1.5, Touch: true},
	{Name: "kiosk", Title: "upright kiosk", Family: Desktop, Size: Size{1080, 1920}, Density: 1, Touch: true},
	{Name: "tablet-large", Title: "large tablet", Family: Tablet, Size: Size{1024, 1366}, Density: 2, Touch: true, Handheld: true},
	{Name: "tablet", Title: "tablet", Family: Tablet, Size: Size{820, 1180}, Density: 2, Touch: true, Handheld: true},
	{Name: "tablet-small", Title: "small tablet", Family: Tablet, Size: Size{744, 1133}, Density: 2, Touch: true, Handheld: true},
	{Name: "foldable-open", Title: "foldable, open", Family: Foldable, Size: Size{673, 841}, Density: 2.5, Touch: true, Handheld: true},
	{Name: "foldable-closed", Title: "foldable, closed", Family: Foldable, Size: Size{344, 882}, Density: 2.5, Touch: true, Handheld: true},
	{Name: "phone-large", Title: "large phone", Family: Phone, Size: Size{430, 932}, Density: 3, Touch: true, Handheld: true},
	{Name: "phone", Title: "phone", Family: Phone, Size: Size{390, 844}, Density: 3, Touch: true, Handheld: true},
	{Name: "phone-slow", Title: "slow phone, far from the mast", Family: Phone, Size: Size{360, 800}, Density: 2, Touch: true, Handheld: true,
		Network: "slow", CPU: 4},
	{Name: "phone-small", Title: "small phone", Family: Phone, Size: Size{320, 568}, Density: 2, Touch: true, Handheld: true},
}

// model is a device that can be bought: what its maker publishes of its panel, in the
// order of an upright device or an open laptop, and how many device pixels its system
// gives one CSS pixel as it is delivered.
type model struct {
	name, title string
	family      Family
	panel       Size
	scale       float64
}

// models are by family, and within it by maker and age.
var models = []model{
	{"macbook-pro-14", "MacBook Pro 14", Laptop, Size{3024, 1964}, 2},
	{"macbook-pro-16", "MacBook Pro 16", Laptop, Size{3456, 2234}, 2},
	{"surface-laptop-13", "Surface Laptop 13.5", Laptop, Size{2256, 1504}, 1.5},
	{"surface-pro", "Surface Pro", Laptop, Size{2880, 1920}, 2},
	{"ipad-9", "iPad, 9th generation", Tablet, Size{1620, 2160}, 2},
	{"ipad-10", "iPad, 10th generation", Tablet, Size{1640, 2360}, 2},
	{"ipad-mini-6", "iPad mini, 6th generation", Tablet, Size{1488, 2266}, 2},
	{"ipad-mini-5", "iPad mini, 5th generation", Tablet, Size{1536, 2048}, 2},
	{"ipad-pro-11-2021", "iPad Pro 11 (M1)", Tablet, Size{1668, 2388}, 2},
	{"ipad-pro-12-9", "iPad Pro 12.9", Tablet, Size{2048, 2732}, 2},
	{"ipad-air-11", "iPad Air 11", Tablet, Size{1640, 2360}, 2},
	{"ipad-air-13", "iPad Air 13", Tablet, Size{2048, 2732}, 2},
	{"ipad-pro-11", "iPad Pro 11 (M4)", Tablet, Size{1668, 2420}, 2},
	{"ipad-pro-13", "iPad Pro 13 (M4)", Tablet, Size{2064, 2752}, 2},
	{"pixel-tablet", "Pixel Tablet", Tablet, Size{1600, 2560}, 2},
	{"pixel-fold-open", "Pixel Fold, open", Foldable, Size{1840, 2208}, 2.625},
	{"pixel-fold-closed", "Pixel Fold, closed", Foldable, Size{1080, 2092}, 2.625},
	{"galaxy-fold-5-open", "Galaxy Z Fold5, open", Foldable, Size{1812, 2176}, 2.625},
	{"galaxy-fold-5-closed", "Galaxy Z Fold5, closed", Foldable, Size{904, 2316}, 2.625},
	{"iphone-se-3", "iPhone SE, 3rd generation", Phone, Size{750, 1334}, 2},
	{"iphone-11", "iPhone 11", Phone, Size{828, 1792}, 2},
	{"iphone-11-pro-max", "iPhone 11 Pro Max", Phone, Size{1242, 2688}, 3},
	{"iphone-12", "iPhone 12", Phone, Size{1170, 2532}, 3},
	{"iphone-13", "iPhone 13", Phone, Size{1170, 2532}, 3},
	{"iphone-13-pro-max", "iPhone 13 Pro Max", Phone, Size{1284, 2778}, 3},
	{"iphone-14", "iPhone 14", Phone, Size{1170, 2532}, 3},
	{"iphone-14-plus", "iPhone 14 Plus", Phone, Size{1284, 2778}, 3},
	{"iphone-15", "iPhone 15", Phone, Size{1179, 2556}, 3},
	{"iphone-15-plus", "iPhone 15 Plus", Phone, Size{1290, 2796}, 3},
	{"iphone-15-pro-max", "iPhone 15 Pro Max", Phone, Size{1290, 2796}, 3},
	{"iphone-16", "iPhone 16", Phone, Size{1179, 2556}, 3},
	{"iphone-16-plus", "iPhone 16 Plus", Phone, Size{1290, 2796}, 3},
	{"iphone-16-pro", "iPhone 16 Pro", Phone, Size{1206, 2622}, 3},
	{"iphone-16-pro-max", "iPhone 16 Pro Max", Phone, Size{1320, 2868}, 3},
	{"iphone-17", "iPhone 17", Phone, Size{1206, 2622}, 3},
	{"iphone-17-pro-max", "iPhone 17 Pro Max", Phone, Size{1320, 2868}, 3},
	{"iphone-air", "iPhone Air", Phone, Size{1260, 2736}, 3},
	{"pixel-6", "Pixel 6", Phone, Size{1080, 2400}, 2.625},
	{"pixel-7", "Pixel 7", Phone, Size{1080, 2400}, 2.625},
	{"pixel-7a", "Pixel 7a", Phone, Size{1080, 2400}, 2.625},
	{"pixel-8", "Pixel 8", Phone, Size{1080, 2400}, 2.625},
	{"pixel-8a", "Pixel 8a", Phone, Size{1080, 2400}, 2.625},
	{"pixel-9", "Pixel 9", Phone, Size{1080, 2424}, 2.625},
	{"galaxy-s21", "Galaxy S21", Phone, Size{1080, 2400}, 3},
	{"galaxy-s22", "Galaxy S22", Phone, Size{1080, 2340}, 3},
	{"galaxy-s23", "Galaxy S23", Phone, Size{1080, 2340}, 3},
	{"galaxy-s24", "Galaxy S24", Phone, Size{1080, 2340}, 3},
	{"redmi-note-12", "Redmi Note 12", Phone, Size{1080, 2400}, 2.75},
	{"moto-g-2023", "Moto G, 2023", Phone, Size{720, 1600}, 1.75},
}

// profile is a model's: the viewport is the whole screen.
func (m model) profile() Profile {
	css := func(pixels int) int { return int(math.Round(float64(pixels) / m.scale)) }
	handheld := m.family != Laptop
	return Profile{Name: m.name, Title: m.title, Family: m.family, Size: Size{css(m.panel.Width), css(m.panel.Height)}, Density: m.scale,
		Touch: handheld || m.name == "surface-pro", Handheld: handheld,
		Source: fmt.Sprintf("its maker's panel of %d×%d pixels, %g for one of CSS", m.panel.Width, m.panel.Height, m.scale)}
}

// Catalogue lists every built-in profile by family, from large to small: those that are
// no one model's, then the models; hand-held ones also on their side.
var Catalogue = func() (out []Profile) {
	var all []Profile
	for _, p := range plain {
		p.Source = common
		all = append(all, p)
	}
	for _, m := range models {
		all = append(all, m.profile())
	}
	for _, f := range Families {
		for _, p := range all {
			if p.Family != f {
				continue
			}
			if !p.Handheld {
				out = append(out, p)
				continue
			}
			side := p
			side.Name, side.Title = p.Name+"-landscape", p.Title+", on its side"
			side.Size = Size{p.Size.Height, p.Size.Width}
			p.Title += ", upright"
			out = append(out, p, side)
		}
	}
	return out
}()

// Like orders profiles by how near their viewports are to a size, the nearest first: by
// the sum of the differences of widths and heights.
func Like(size Size, all []Profile) []Profile {
	far := func(p Profile) int {
		w, h := p.Size.Width-size.Width, p.Size.Height-size.Height
		return max(w, -w) + max(h, -h)
	}
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b Profile) int { return cmp.Compare(far(a), far(b)) })
	return out
}

// Wanted says which devices somebody looks for; what is "" leaves them all.
type Wanted struct {
	Text   string `query:"text" json:"-" description:"found in the name or the description"`
	Family string `query:"family" json:"-" description:"desktop, laptop, tablet, foldable or phone"`
	Like   string `query:"like" json:"-" description:"only the eight whose viewports are nearest to a size such as 390x844"`
}

// Search lists the devices that are wanted, in their order, or from the nearest on. Errors
// name the field.
func Search(all []Profile, w Wanted) ([]Profile, error) {
	if w.Family != "" && !slices.Contains(Families, Family(w.Family)) {
		return nil, fmt.Errorf("family: expected one of %v, found %q", Families, w.Family)
	}
	found := []Profile{}
	for _, p := range all {
		if strings.Contains(strings.ToLower(p.Name+" "+p.Title), strings.ToLower(w.Text)) && (w.Family == "" || string(p.Family) == w.Family) {
			found = append(found, p)
		}
	}
	if w.Like == "" {
		return found, nil
	}
	size, err := ParseSize(w.Like)
	if err != nil {
		return nil, fmt.Errorf("like: %w", err)
	}
	found = Like(size, found)
	return found[:min(8, len(found))], nil
}
