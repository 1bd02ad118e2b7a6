package standin

import (
	"fmt"
	"os"

	"yamato/internal/host"
)

// Open gives the stand-ins of a site, switched off. command starts the child for
// apps; nil means this very program.
func Open(s *host.Site, command []string) ([]host.Device, error) {
	if command == nil {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("this program cannot find its own file: %w", err)
		}
		command = []string{self, SandboxArgument}
	}
	var out []host.Device
	for _, d := range s.Devices {
		m, err := s.Find(d)
		if err != nil {
			return nil, err
		}
		out = append(out, New(Config{Device: s.Describe(d, m), Cutout: m.Cutout, Sandbox: command}))
	}
	return out, nil
}
