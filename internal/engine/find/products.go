package find

// Place is where an installation can lie: a pattern for its program, with {home},
// {local} (of the user, on Windows) and {programs} (each of Windows' directories for
// programs) for what differs from machine to machine.
type Place struct {
	OS      string // linux, darwin, windows
	Program string
	Channel string // "" when the place does not tell
	Stamp   string // beside a program that only calls another: that one, whose change is the installation's
}

// Product is a browser as systems hold it.
type Product struct {
	Name   string // value of the axis browser
	Engine string
	Title  string // how people call it
	Get    string // what installs it where it is packaged
	Places []Place
	Path   []string // its names on the path
	Folder []string // its program below the folder of an unpacked archive, from the best on
	Bare   bool     // is only read with a display
	Needs  []Need   // what the machine must have besides
}

// Need is something that a browser cannot do without.
type Need struct {
	Program, File   string // one that is looked for on the path, or a pattern of one
	Problem, Remedy string
}

// chromiums are the folders in archives of browsers made from Chromium.
func folder(names ...string) (out []string) {
	for _, n := range names {
		out = append(out, n, "*/"+n, "opt/*/*/"+n, "opt/*/"+n, "usr/lib/*/"+n, "usr/lib/*/*/"+n)
	}
	return out
}

// Products are the browsers that agents know.
var Products = []Product{
	{Name: "chromium", Engine: "chromium", Title: "Chromium", Get: "apt-get install chromium chromium-driver",
		Places: []Place{
			{OS: "linux", Program: "/usr/bin/chromium", Stamp: "/usr/lib/chromium/chromium"},
			{OS: "linux", Program: "/usr/lib/chromium/chromium"},
			{OS: "linux", Program: "/usr/lib/chromium-browser/chromium-browser"},
			{OS: "darwin", Program: "/Applications/Chromium.app/Contents/MacOS/Chromium"},
			{OS: "darwin", Program: "{home}/Applications/Chromium.app/Contents/MacOS/Chromium"},
			{OS: "windows", Program: "{programs}/Chromium/Application/chrome.exe"},
			{OS: "windows", Program: "{local}/Chromium/Application/chrome.exe"},
		},
		Path: []string{"chromium", "chromium-browser"},
		Folder: append(folder("chromium", "chromium-browser"), "chrome-linux/chrome", "Chromium.app/Contents/MacOS/Chromium",
			"*/Chromium.app/Contents/MacOS/Chromium")},
	{Name: "chrome", Engine: "chromium", Title: "Chrome",
		Places: []Place{
			{OS: "linux", Program: "/opt/google/chrome/chrome", Channel: "stable"},
			{OS: "linux", Program: "/opt/google/chrome-beta/chrome", Channel: "beta"},
			{OS: "linux", Program: "/opt/google/chrome-unstable/chrome", Channel: "dev"},
			{OS: "darwin", Program: "/Applications/Google Chrome.app/Contents/MacOS/Google Chrome", Channel: "stable"},
			{OS: "darwin", Program: "/Applications/Google Chrome Beta.app/Contents/MacOS/Google Chrome Beta", Channel: "beta"},
			{OS: "darwin", Program: "/Applications/Google Chrome Dev.app/Contents/MacOS/Google Chrome Dev", Channel: "dev"},
			{OS: "darwin", Program: "/Applications/Google Chrome Canary.app/Contents/MacOS/Google Chrome Canary", Channel: "canary"},
			{OS: "windows", Program: "{programs}/Google/Chrome/Application/chrome.exe", Channel: "stable"},
			{OS: "windows", Program: "{local}/Google/Chrome/Application/chrome.exe", Channel: "stable"},
			{OS: "windows", Program: "{programs}/Google/Chrome Beta/Application/chrome.exe", Channel: "beta"},
			{OS: "windows", Program: "{programs}/Google/Chrome Dev/Application/chrome.exe", Channel: "dev"},
			{OS: "windows", Program: "{local}/Google/Chrome SxS/Application/chrome.exe", Channel: "canary"},
		},
		Path:   []string{"google-chrome", "google-chrome-stable", "google-chrome-beta", "google-chrome-unstable"},
		Folder: append(folder("chrome", "chrome.exe"), "*.app/Contents/MacOS/Google Chrome*", "*/*.app/Contents/MacOS/Google Chrome*")},
	{Name: "edge", Engine: "chromium", Title: "Edge",
		Places: []Place{
			{OS: "linux", Program: "/opt/microsoft/msedge/msedge", Channel: "stable"},
			{OS: "linux", Program: "/opt/microsoft/msedge-beta/msedge", Channel: "beta"},
			{OS: "linux", Program: "/opt/microsoft/msedge-dev/msedge", Channel: "dev"},
			{OS: "darwin", Program: "/Applications/Microsoft Edge.app/Contents/MacOS/Microsoft Edge", Channel: "stable"},
			{OS: "darwin", Program: "/Applications/Microsoft Edge Beta.app/Contents/MacOS/Microsoft Edge Beta", Channel: "beta"},
			{OS: "darwin", Program: "/Applications/Microsoft Edge Dev.app/Contents/MacOS/Microsoft Edge Dev", Channel: "dev"},
			{OS: "windows", Program: "{programs}/Microsoft/Edge/Application/msedge.exe", Channel: "stable"},
			{OS: "windows", Program: "{programs}/Microsoft/Edge Beta/Application/msedge.exe", Channel: "beta"},
			{OS: "windows", Program: "{programs}/Microsoft/Edge Dev/Application/msedge.exe", Channel: "dev"},
			{OS: "windows", Program: "{local}/Microsoft/Edge SxS/Application/msedge.exe", Channel: "canary"},
		},
		Path:   []string{"microsoft-edge", "microsoft-edge-stable", "microsoft-edge-beta", "microsoft-edge-dev"},
		Folder: append(folder("msedge", "msedge.exe"), "*.app/Contents/MacOS/Microsoft Edge*")},
	{Name: "opera", Engine: "chromium", Title: "Opera",
		Places: []Place{
			{OS: "linux", Program: "/usr/lib/*/opera-stable/opera", Channel: "stable"},
			{OS: "linux", Program: "/usr/lib/*/opera/opera", Channel: "stable"},
			{OS: "linux", Program: "/usr/lib/*/opera-beta/opera", Channel: "beta"},
			{OS: "linux", Program: "/usr/lib/*/opera-developer/opera", Channel: "dev"},
			{OS: "darwin", Program: "/Applications/Opera.app/Contents/MacOS/Opera", Channel: "stable"},
			{OS: "darwin", Program: "/Applications/Opera Beta.app/Contents/MacOS/Opera", Channel: "beta"},
			{OS: "darwin", Program: "/Applications/Opera Developer.app/Contents/MacOS/Opera", Channel: "dev"},
			{OS: "windows", Program: "{local}/Programs/Opera/opera.exe", Channel: "stable"},
			{OS: "windows", Program: "{programs}/Opera/opera.exe", Channel: "stable"},
			{OS: "windows", Program: "{local}/Programs/Opera beta/opera.exe", Channel: "beta"},
			{OS: "windows", Program: "{local}/Programs/Opera developer/opera.exe", Channel: "dev"},
		},
		Path:   []string{"opera", "opera-beta", "opera-developer"},
		Folder: append(folder("opera", "opera.exe"), "Opera*.app/Contents/MacOS/Opera")},
	{Name: "firefox", Engine: "gecko", Title: "Firefox", Get: "apt-get install firefox-esr",
		Places: []Place{
			{OS: "linux", Program: "/usr/lib/firefox-esr/firefox-esr"},
			{OS: "linux", Program: "/usr/lib/firefox/firefox"},
			{OS: "linux", Program: "/opt/firefox*/firefox"},
			{OS: "darwin", Program: "/Applications/Firefox.app/Contents/MacOS/firefox"},
			{OS: "darwin", Program: "/Applications/Firefox Developer Edition.app/Contents/MacOS/firefox", Channel: "dev"},
			{OS: "darwin", Program: "/Applications/Firefox Nightly.app/Contents/MacOS/firefox", Channel: "nightly"},
			{OS: "windows", Program: "{programs}/Mozilla Firefox/firefox.exe"},
			{OS: "windows", Program: "{programs}/Firefox Developer Edition/firefox.exe", Channel: "dev"},
			{OS: "windows", Program: "{programs}/Firefox Nightly/firefox.exe", Channel: "nightly"},
			{OS: "windows", Program: "{local}/Mozilla Firefox/firefox.exe"},
		},
		Path:   []string{"firefox-esr", "firefox"},
		Folder: append(folder("firefox-esr", "firefox", "firefox.exe"), "Firefox*.app/Contents/MacOS/firefox")},
	{Name: "safari", Engine: "webkit", Title: "Safari",
		Places: []Place{
			{OS: "darwin", Program: "/Applications/Safari.app/Contents/MacOS/Safari", Channel: "stable"},
			{OS: "darwin", Program: "/Applications/Safari Technology Preview.app/Contents/MacOS/Safari Technology Preview", Channel: "preview"},
		}},
	{Name: "webkitgtk", Engine: "webkit", Title: "WebKitGTK", Get: "apt-get install webkit2gtk-driver libgl1-mesa-dri xvfb", Bare: true,
		Places: []Place{
			{OS: "linux", Program: "/usr/lib/*/webkit2gtk-4.1/MiniBrowser"},
			{OS: "linux", Program: "/usr/lib/*/webkitgtk-6.0/MiniBrowser"},
			{OS: "linux", Program: "/usr/lib/*/webkit2gtk-4.0/MiniBrowser"},
		},
		Needs: []Need{
			{Program: "Xvfb", Problem: "no virtual display", Remedy: "apt-get install xvfb"},
			{File: "/usr/lib/*/dri/swrast_dri.so", Problem: "no software rendering, without which screenshots hang",
				Remedy: "apt-get install libgl1-mesa-dri"},
		}},
	{Name: "wpe", Engine: "webkit", Title: "WPE", Get: "apt-get install wpewebkit-driver libgl1-mesa-dri",
		Places: []Place{
			{OS: "linux", Program: "/usr/lib/*/wpe-webkit-1.1/MiniBrowser"},
			{OS: "linux", Program: "/usr/lib/*/wpe-webkit-2.0/MiniBrowser"},
			{OS: "linux", Program: "/usr/lib/*/wpe-webkit-1.0/MiniBrowser"},
		},
		Needs: []Need{{File: "/usr/lib/*/dri/swrast_dri.so", Problem: "no software rendering, without which screenshots hang",
			Remedy: "apt-get install libgl1-mesa-dri"}}},
}

// Program is a driver as systems hold it.
type Program struct {
	Name   string // as core/fleet calls it
	Places []Place
	Folder []string
	Silent bool // says no version of its own
}

// Programs are the drivers that agents know. Each is looked for on the path as well.
var Programs = []Program{
	{Name: "chromedriver", Places: []Place{
		{OS: "linux", Program: "/usr/bin/chromedriver"},
		{OS: "linux", Program: "/usr/lib/chromium/chromedriver"},
		{OS: "linux", Program: "/usr/lib/chromium-browser/chromedriver"},
	}, Folder: folder("chromedriver", "usr/bin/chromedriver", "chromedriver.exe")},
	{Name: "msedgedriver", Folder: folder("msedgedriver", "msedgedriver.exe")},
	{Name: "operadriver", Folder: folder("operadriver", "operadriver.exe")},
	{Name: "geckodriver", Folder: folder("geckodriver", "geckodriver.exe")},
	{Name: "safaridriver", Places: []Place{
		{OS: "darwin", Program: "/usr/bin/safaridriver"},
		{OS: "darwin", Program: "/Applications/Safari Technology Preview.app/Contents/MacOS/safaridriver"},
	}},
	{Name: "WebKitWebDriver", Places: []Place{{OS: "linux", Program: "/usr/bin/WebKitWebDriver"}}, Silent: true},
	{Name: "WPEWebDriver", Places: []Place{{OS: "linux", Program: "/usr/bin/WPEWebDriver"}}, Silent: true},
}
