package words

import (
	"context"
	"strings"
)

// Sentence makes an error's text one that stands alone.
func Sentence(err error) string {
	s := strings.ReplaceAll(err.Error(), context.Canceled.Error(), "it was stopped")
	if s == "" {
		return s
	}
	s = strings.ToUpper(s[:1]) + s[1:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}
