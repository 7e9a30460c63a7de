package api

import "parallelpane/internal/core/fleet"

// Language is one in which examples are written.
type Language struct {
	Name  string `json:"name"` // for choosing
	Title string `json:"title"`
	File  string `json:"file"` // what to call the example
}

// SnippetRequest says what the session of an example is to ask for.
type SnippetRequest struct {
	Service string `query:"service" json:"-" description:"address of the service as the runner will see it"`
	Browser string `query:"browser" json:"-"`
	Version string `query:"version" json:"-" description:"a version, its beginning, a range or latest"`
	OS      string `query:"os" json:"-"`
	Device  string `query:"device" json:"-"`
	Mode    string `query:"mode" json:"-" enum:"headless,headed"`
	Labels  string `query:"labels" json:"-" description:"LABEL=VALUE, separated by spaces"`
	Test    string `query:"test" json:"-"`
	Run     string `query:"run" json:"-"`
	Project string `query:"project" json:"-"`
	Tags    string `query:"tags" json:"-" description:"separated by spaces"`
	Record  string `query:"record" json:"-" description:"KIND=KEEP, separated by spaces"`
	Traffic string `query:"traffic" json:"-" description:"what the way to the site is held to, such as down=1500 up=750 delay=120"`
	Relay   string `query:"relay" json:"-" description:"name of the open relay that leads to the application"`
	BiDi    string `query:"bidi" json:"-" enum:"yes" description:"ask for webSocketUrl"`
	Address string `query:"address" json:"-" description:"page to look at"`
}

// Snippets are examples of opening a session.
type Snippets struct {
	Endpoint     string            `json:"endpoint"`
	Capabilities map[string]any    `json:"capabilities" description:"for alwaysMatch"`
	Agents       fleet.Answer      `json:"agents" description:"who could serve it now"`
	Why          string            `json:"why" description:"why nobody could, if so"`
	Languages    []Language        `json:"languages"`
	Code         map[string]string `json:"code" description:"by language"`
}
