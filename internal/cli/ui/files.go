package ui

import (
	"fmt"
	"io"
	"os"
)

// maxSmallFile bounds the files that commands read whole: suites, plans, site files.
const maxSmallFile = 2 << 20

// ReadSmall reads a file that people write, and no more than such a one may have.
func ReadSmall(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxSmallFile+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	if len(text) > maxSmallFile {
		return nil, fmt.Errorf("%s is larger than the %d MB that such a file may have", path, maxSmallFile>>20)
	}
	return text, nil
}
