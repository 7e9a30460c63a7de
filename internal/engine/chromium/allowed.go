package chromium

import (
	"maps"
	"slices"

	"parallelpane/internal/engine"
	"parallelpane/internal/webdriver"
)

// vendor is what sessions may ask of Chromium: what changes how pages look and
// behave, and what runners of tests pass by habit. What starts programs, listens,
// reads or writes files by a path, or leads around the session's door is not.
var vendor = engine.Vendor{
	Key: "goog:chromeOptions",
	Fields: []string{"args", "prefs", "localState", "extensions", "mobileEmulation", "excludeSwitches", "perfLoggingPrefs", "windowTypes",
		"detach", "useAutomationExtension", "enableExtensionTargets", "quitGracefully"},
	Why: map[string]string{
		"binary":                     "the agent chooses the browser by browserName and browserVersion",
		"debuggerAddress":            "it would be somebody else's browser",
		"minidumpPath":               "it writes to a path",
		"logPath":                    "it writes to a path; the driver's log is recorded",
		"traceCategories":            "traces write files without end",
		"js-flags":                   "flags of the script engine open what the browser's own sandbox closes",
		"remote-debugging-port":      "it would listen; ask for webSocketUrl, or use the driver's own commands",
		"remote-debugging-address":   "it would listen",
		"user-data-dir":              "every session has a fresh profile of its own",
		"proxy-server":               "name a proxy by the capability proxy",
		"no-proxy-server":            "every session has one way out",
		"proxy-pac-url":              "name a proxy by the capability proxy, with proxyType manual",
		"load-extension":             "it reads a path; bring the packed extension in extensions",
		"download.default_directory": "downloads go into the session's own directory",
		"log-net-log":                "it writes to a path; record the network instead",
		"host-resolver-rules":        "the session's door looks names up",
	},
	Decided: []string{"no-sandbox", "disable-setuid-sandbox"},
	Switches: engine.Names{
		// the window and the look
		"headless", "window-size", "window-position", "start-maximized", "start-fullscreen", "kiosk", "incognito", "guest", "lang",
		"accept-lang", "user-agent", "force-device-scale-factor", "high-dpi-support", "hide-scrollbars", "force-color-profile",
		"force-dark-mode", "force-prefers-*", "force-high-contrast", "font-render-hinting", "disable-font-subpixel-positioning",
		"disable-lcd-text", "disable-smooth-scrolling", "top-chrome-touch-ui", "touch-events", "default-background-color",
		// how pages behave
		"autoplay-policy", "mute-audio", "blink-settings", "enable-blink-features", "disable-blink-features", "enable-features",
		"disable-features", "enable-experimental-web-platform-features", "disable-javascript", "disable-notifications",
		"disable-popup-blocking", "deny-permission-prompts", "use-fake-ui-for-media-stream", "use-fake-device-for-media-stream",
		"auto-select-desktop-capture-source", "disable-web-security", "allow-running-insecure-content", "allow-insecure-localhost",
		"ignore-certificate-errors", "unsafely-treat-insecure-origin-as-secure", "site-per-process", "isolate-origins",
		"disable-site-isolation-trials", "enable-precise-memory-info", "force-webrtc-ip-handling-policy",
		// how fast it is
		"disable-gpu", "disable-dev-shm-usage", "disable-software-rasterizer", "enable-unsafe-swiftshader", "use-gl", "use-angle",
		"in-process-gpu", "disable-background-timer-throttling", "disable-backgrounding-occluded-windows",
		"disable-renderer-backgrounding", "disable-ipc-flooding-protection", "disable-hang-monitor", "disable-accelerated-2d-canvas",
		"disable-accelerated-video-decode", "disk-cache-size", "aggressive-cache-discard", "run-all-compositor-stages-before-draw",
		// what it leaves alone
		"disable-extensions", "disable-infobars", "disable-translate", "disable-sync", "disable-quic", "disable-default-apps",
		"disable-background-networking", "disable-component-update", "disable-component-extensions-with-background-pages",
		"disable-client-side-phishing-detection", "disable-prompt-on-repost", "disable-breakpad", "disable-crash-reporter",
		"disable-domain-reliability", "disable-search-engine-choice-screen", "disable-save-password-bubble", "disable-logging",
		"disable-session-crashed-bubble", "disable-print-preview", "disable-plugins", "disable-plugins-discovery", "disable-images",
		"metrics-recording-only", "no-default-browser-check", "no-first-run", "no-pings", "no-service-autorun", "password-store",
		"use-mock-keychain", "test-type", "enable-automation", "log-level", "silent", "bwsi", "safebrowsing-disable-*",
		"propagate-iph-for-testing", "export-tagged-pdf", "allow-pre-commit-input", "enable-logging", "v",
	},
	Prefs: engine.Names{
		"intl.*", "profile.default_content_setting_values.*", "profile.default_content_settings.*",
		"profile.managed_default_content_settings.*", "profile.content_settings.*", "profile.password_manager_*",
		"profile.cookie_controls_mode", "profile.block_third_party_cookies", "credentials_enable_service", "autofill.*",
		"webkit.webprefs.*", "translate.*", "translate_*", "plugins.always_open_pdf_externally", "safebrowsing.*", "spellcheck.*",
		"browser.enable_spellchecking", "browser.custom_chrome_frame", "search.suggest_enabled", "webrtc.*", "download.prompt_for_download",
		"download.directory_upgrade", "session.restore_on_startup", "enable_do_not_track", "net.network_prediction_options",
		"homepage_is_newtabpage", "bookmark_bar.*", "extensions.ui.developer_mode",
	},
}

// localState are the names of the browser's state, outside any profile, that may be
// asked for.
var localState = engine.Names{"browser.enabled_labs_experiments", "intl.*"}

// vendorOf is what sessions may ask of a browser made from Chromium: the same of all,
// by the key that its driver knows.
func vendorOf(browser string) engine.Vendor {
	v := vendor
	if browser == "edge" {
		v.Key = "ms:edgeOptions"
	}
	return v
}

// settle reads what a session asks for: the extension capability without what the
// agent decides, and the switches of the command line.
func settle(o engine.Options, inst *engine.Instance) (options map[string]any, args []string, err error) {
	vendor := vendorOf(o.Browser.Name)
	state := vendor
	state.Prefs = localState
	if options, err = vendor.Of(o.Asked, o.Allow); err != nil {
		return nil, nil, err
	}
	if args, inst.Left, err = vendor.Arguments(options, false, o.Allow); err != nil {
		return nil, nil, err
	}
	for field, checked := range map[string]engine.Vendor{"prefs": vendor, "localState": state} {
		raw, there := options[field]
		if !there {
			continue
		}
		prefs, ok := raw.(map[string]any)
		if !ok {
			return nil, nil, &engine.Refused{Why: vendor.Key + ": " + field + ": expected an object"}
		}
		if err := checked.Preferences(prefs, o.Allow); err != nil {
			return nil, nil, err
		}
	}
	if perf, ok := options["perfLoggingPrefs"].(map[string]any); ok {
		if _, there := perf["traceCategories"]; there && !o.Allow.Hold("traceCategories") {
			return nil, nil, &engine.Refused{Why: vendor.Key + ": perfLoggingPrefs: traceCategories cannot be had here: " +
				vendor.Why["traceCategories"]}
		}
	}
	return options, args, nil
}

// SettleOnPhone is settle for a browser on a phone, which takes switches and nothing
// else.
func SettleOnPhone(o engine.Options, inst *engine.Instance) (options map[string]any, args []string, err error) {
	options, args, err = settle(o, inst)
	for _, field := range slices.Sorted(maps.Keys(options)) {
		if field != "args" && err == nil {
			err = &engine.Refused{Why: vendor.Key + ": " + field + " cannot be had on a phone, whose browser takes args and nothing else"}
		}
	}
	return options, args, err
}

// Asking are the capabilities to ask the driver for, with what was settled.
func Asking(o engine.Options, options map[string]any) webdriver.Capabilities {
	return vendorOf(o.Browser.Name).Asking(o, options, true)
}
