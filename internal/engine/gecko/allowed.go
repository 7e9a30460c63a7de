package gecko

import (
	"parallelpane/internal/engine"
)

// vendor is what sessions may ask of Firefox: what changes how pages look and
// behave. What says where the browser keeps things and listens, gives pages the
// browser's own rights, starts programs, writes files or leads around the session's
// door is not.
var vendor = engine.Vendor{
	Key:    "moz:firefoxOptions",
	Fields: []string{"args", "prefs", "profile", "log"},
	Why: map[string]string{
		"binary":                     "the agent chooses the browser by browserName and browserVersion",
		"env":                        "variables of the environment make the browser write files and load programs",
		"profile":                    "every session has a fresh profile of its own",
		"moz_log":                    "it writes a file",
		"screenshot":                 "it writes a file; take screenshots by a command",
		"remote-debugging-port":      "it would listen; ask for webSocketUrl",
		"remote-allow-system-access": "it gives a session the browser's own rights",
		"start-debugger-server":      "it would listen",
		"browser.download.dir":       "downloads go into the session's own directory",
		"network.proxy.type":         "name a proxy by the capability proxy",
	},
	Switches: engine.Names{"headless", "width", "height", "private", "private-window", "kiosk", "foreground", "safe-mode"},
	Prefs: engine.Names{
		"intl.*", "general.useragent.*", "general.smoothscroll*", "javascript.enabled", "javascript.options.wasm*", "dom.*", "layout.*",
		"layers.*", "gfx.*", "webgl.*", "image.*", "font.*", "browser.display.*", "browser.zoom.*", "ui.*", "accessibility.*", "widget.*",
		"media.navigator.*", "media.autoplay.*", "media.peerconnection.*", "media.getusermedia.*", "media.volume_scale",
		"permissions.default.*", "privacy.*", "geo.*", "network.cookie.*", "network.http.*", "network.websocket.*",
		"security.mixed_content.*", "security.insecure_*", "security.csp.*", "security.fileuri.strict_origin_policy", "pdfjs.*", "signon.*",
		"browser.cache.*", "browser.tabs.*", "browser.link.*", "browser.privatebrowsing.*", "browser.contentblocking.*",
		"browser.sessionhistory.*", "browser.shell.checkdefaultbrowser", "browser.startup.page", "browser.aboutwelcome.enabled",
		"browser.translations.*", "browser.formfill.*", "browser.download.folderlist", "browser.download.usedownloaddir",
		"browser.helperapps.neverask.savetodisk", "extensions.formautofill.*", "datareporting.*", "toolkit.telemetry.*",
		"toolkit.cosmeticanimations.enabled", "apz.*", "full-screen-api.*", "app.update.*", "devtools.jsonview.enabled", "prompts.*",
	},
}
