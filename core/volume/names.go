package volume

import "strings"

// Misnamed is what is said of a file whose name on the drive is damaged: it is listed, under the name that Name makes
// of it, and its contents are not read in its name.
const Misnamed = "its name on the drive is damaged: it holds what no name may"

// Name is a name as a drive has it, made one that is no path and leads nowhere: what no name may hold, a slash or NUL,
// stands as U+FFFD, and so do the dots of the names . and ... trouble says that the drive's own is another, "" for a
// name that is as it should be.
func Name(raw string) (name, trouble string) {
	if raw == "" {
		return "\uFFFD", Misnamed
	}
	if raw == "." || raw == ".." {
		return strings.ReplaceAll(raw, ".", "\uFFFD"), Misnamed
	}
	if !strings.ContainsAny(raw, "/\x00") {
		return raw, ""
	}
	return strings.Map(func(r rune) rune {
		if r == '/' || r == 0 {
			return '\uFFFD'
		}
		return r
	}, raw), Misnamed
}
