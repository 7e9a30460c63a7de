package webdriver

import "strings"

// Command is an endpoint of W3C WebDriver section 6.4 "Endpoints", as a session
// sees it.
type Command struct {
	Name    string
	Changes bool // it may change what the page shows
}

// endpoints are the commands by method and path after the session; {} stands
// for one part of the path.
var endpoints = map[string]Command{
	"DELETE ":                                          {"Delete Session", false},
	"GET /timeouts":                                    {"Get Timeouts", false},
	"POST /timeouts":                                   {"Set Timeouts", false},
	"POST /url":                                        {"Navigate To", true},
	"GET /url":                                         {"Get Current URL", false},
	"POST /back":                                       {"Back", true},
	"POST /forward":                                    {"Forward", true},
	"POST /refresh":                                    {"Refresh", true},
	"GET /title":                                       {"Get Title", false},
	"GET /window":                                      {"Get Window Handle", false},
	"DELETE /window":                                   {"Close Window", false},
	"POST /window":                                     {"Switch To Window", true},
	"GET /window/handles":                              {"Get Window Handles", false},
	"POST /window/new":                                 {"New Window", false},
	"POST /frame":                                      {"Switch To Frame", false},
	"POST /frame/parent":                               {"Switch To Parent Frame", false},
	"GET /window/rect":                                 {"Get Window Rect", false},
	"POST /window/rect":                                {"Set Window Rect", true},
	"POST /window/maximize":                            {"Maximize Window", true},
	"POST /window/minimize":                            {"Minimize Window", true},
	"POST /window/fullscreen":                          {"Fullscreen Window", true},
	"GET /element/active":                              {"Get Active Element", false},
	"GET /element/{}/shadow":                           {"Get Element Shadow Root", false},
	"POST /element":                                    {"Find Element", false},
	"POST /elements":                                   {"Find Elements", false},
	"POST /element/{}/element":                         {"Find Element From Element", false},
	"POST /element/{}/elements":                        {"Find Elements From Element", false},
	"POST /shadow/{}/element":                          {"Find Element From Shadow Root", false},
	"POST /shadow/{}/elements":                         {"Find Elements From Shadow Root", false},
	"GET /element/{}/selected":                         {"Is Element Selected", false},
	"GET /element/{}/displayed":                        {"Is Element Displayed", false}, // section 12.4.9 "Element displayedness"
	"GET /element/{}/attribute/{}":                     {"Get Element Attribute", false},
	"GET /element/{}/property/{}":                      {"Get Element Property", false},
	"GET /element/{}/css/{}":                           {"Get Element CSS Value", false},
	"GET /element/{}/text":                             {"Get Element Text", false},
	"GET /element/{}/name":                             {"Get Element Tag Name", false},
	"GET /element/{}/rect":                             {"Get Element Rect", false},
	"GET /element/{}/enabled":                          {"Is Element Enabled", false},
	"GET /element/{}/computedrole":                     {"Get Computed Role", false},
	"GET /element/{}/computedlabel":                    {"Get Computed Label", false},
	"POST /element/{}/click":                           {"Element Click", true},
	"POST /element/{}/clear":                           {"Element Clear", true},
	"POST /element/{}/value":                           {"Element Send Keys", true},
	"GET /source":                                      {"Get Page Source", false},
	"POST /execute/sync":                               {"Execute Script", false},
	"POST /execute/async":                              {"Execute Async Script", false},
	"GET /cookie":                                      {"Get All Cookies", false},
	"GET /cookie/{}":                                   {"Get Named Cookie", false},
	"POST /cookie":                                     {"Add Cookie", false},
	"DELETE /cookie/{}":                                {"Delete Cookie", false},
	"DELETE /cookie":                                   {"Delete All Cookies", false},
	"POST /actions":                                    {"Perform Actions", true},
	"DELETE /actions":                                  {"Release Actions", true},
	"POST /alert/dismiss":                              {"Dismiss Alert", true},
	"POST /alert/accept":                               {"Accept Alert", true},
	"GET /alert/text":                                  {"Get Alert Text", false},
	"POST /alert/text":                                 {"Send Alert Text", false},
	"GET /screenshot":                                  {"Take Screenshot", false},
	"GET /element/{}/screenshot":                       {"Take Element Screenshot", false},
	"POST /print":                                      {"Print Page", false},
	"POST /permissions":                                {"Set Permission", false},            // W3C Permissions, section 12
	"POST /reporting/generate_test_report":             {"Generate Test Report", false},      // W3C Reporting, section 4.1
	"POST /webauthn/authenticator":                     {"Add Virtual Authenticator", false}, // W3C Web Authentication, section 11
	"DELETE /webauthn/authenticator/{}":                {"Remove Virtual Authenticator", false},
	"POST /webauthn/authenticator/{}/credential":       {"Add Credential", false},
	"GET /webauthn/authenticator/{}/credentials":       {"Get Credentials", false},
	"DELETE /webauthn/authenticator/{}/credentials":    {"Remove All Credentials", false},
	"DELETE /webauthn/authenticator/{}/credentials/{}": {"Remove Credential", false},
	"POST /webauthn/authenticator/{}/uv":               {"Set User Verified", false},
	"GET /privacy":                                     {"Get Global Privacy Control", false}, // Global Privacy Control, section 5
	"POST /privacy":                                    {"Set Global Privacy Control", false},
	"POST /pane/look":                                  {"Look", false}, // the stand-ins' own
	"POST /pane/text":                                  {"Text", false}, // the stand-ins' own
}

// CommandOf names the command of a method and a path after the session, such as
// /element/e7/click. One it does not know is named by method and path.
func CommandOf(method, path string) Command {
	path, _, _ = strings.Cut(path, "?")
	if c, ok := endpoints[method+" "+path]; ok {
		return c
	}
	parts := strings.Split(path, "/")
	for _, k := range []int{2, 4, 3} { // where names and references stand
		if k < len(parts) {
			parts[k] = "{}"
			if c, ok := endpoints[method+" "+strings.Join(parts, "/")]; ok {
				return c
			}
		}
	}
	return Command{Name: method + " " + path}
}
