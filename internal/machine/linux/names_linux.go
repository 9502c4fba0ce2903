package linux

import (
	"net"
	"strconv"
	"strings"

	"passepartout/internal/core/wiretext"
)

// The kernel takes almost any octets for the name of an interface, and hostile ones would reach every terminal. What is no plain text is
// known here by its number.
const byNumber = "#"

// shownName is the name under which an interface is known to all above.
func shownName(index int, name string) string {
	if wiretext.Clean(name) == name && !strings.HasPrefix(name, byNumber) {
		return name
	}
	return byNumber + strconv.Itoa(index)
}

// systemName is the kernel's own name for one that is shown.
func systemName(shown string) string {
	if number, is := strings.CutPrefix(shown, byNumber); is {
		if index, err := strconv.Atoi(number); err == nil {
			if i, err := net.InterfaceByIndex(index); err == nil {
				return i.Name
			}
		}
	}
	return shown
}
