package plan

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf16"
)

// deviceNames are what a PC takes for devices, whatever follows a dot: no folder by such a name can be
// opened there. Spaces before the dot do not help.
var deviceNames = regexp.MustCompile(`(?i)^(con|prn|aux|nul|conin\$|conout\$|(com|lpt)[0-9¹²³]) *(\..*)?$`)

// validFolder refuses a folder of which a name could not be opened on a PC.
func validFolder(folder string) error {
	if len(folder) > 200 {
		return fmt.Errorf("the folder's name is too long: it has %d bytes, and 200 are the most", len(folder))
	}
	for name := range strings.SplitSeq(strings.Trim(strings.ReplaceAll(folder, `\`, "/"), "/"), "/") {
		switch {
		case name == "" && strings.Trim(folder, `/\`) == "":
			continue
		case name == "" || name == "." || name == "..":
			return fmt.Errorf("%q is no folder: each of its names is one", folder)
		case strings.ContainsFunc(name, unicode.IsControl) || strings.ContainsAny(name, `<>:"|?*`):
			return fmt.Errorf(
				"%q has a sign in it that no name of a folder may have on a PC (< > : \" | ? * or one that is not written)",
				name,
			)
		case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
			return fmt.Errorf("%q ends with a dot or a space: its PC could not open a folder of that name", name)
		case deviceNames.MatchString(name):
			return fmt.Errorf(
				"%q is the name of a device on a PC, and no folder of that name can be opened there", name,
			)
		case len(utf16.Encode([]rune(name))) > 255:
			return fmt.Errorf("%q is longer than the 255 letters that a name may have", name)
		}
	}
	return nil
}
