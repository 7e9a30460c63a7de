package process

import (
	"os"
	"slices"
	"strings"
)

// inherited are the variables of ours that a browser's programs may see: where the
// system keeps things, and how to speak to people. Everything else is ours alone,
// tokens first.
var inherited = []string{
	"PATH", "HOME", "USER", "LOGNAME", "TMPDIR", "LANG", "LANGUAGE", "TZ", "DISPLAY", "XAUTHORITY", "XDG_RUNTIME_DIR",
	"LD_LIBRARY_PATH", "FONTCONFIG_PATH", "FONTCONFIG_FILE", "LIBGL_ALWAYS_SOFTWARE", "COLORTERM", "TERM",
	// Windows
	"SYSTEMROOT", "WINDIR", "TEMP", "TMP", "APPDATA", "LOCALAPPDATA", "USERPROFILE", "PROGRAMFILES", "PROGRAMFILES(X86)",
	"PROGRAMDATA", "PATHEXT", "COMSPEC", "SYSTEMDRIVE", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE",
}

// Inherited is the part of our environment that programs of a session see.
func Inherited() []string {
	return slices.DeleteFunc(os.Environ(), func(entry string) bool {
		name, _, _ := strings.Cut(entry, "=")
		name = strings.ToUpper(name)
		return !slices.Contains(inherited, name) && !strings.HasPrefix(name, "LC_")
	})
}
