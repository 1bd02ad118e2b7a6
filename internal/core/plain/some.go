package plain

import (
	"fmt"
	"slices"
	"strings"
)

// Some names the first few of a list, and how many more there are.
func Some(list []string, most int) string {
	if more := len(list) - most; more > 0 {
		list = append(slices.Clone(list[:most]), fmt.Sprintf("%d more", more))
	}
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}
