// Package bridge has the wire formats of Android's debug bridge, for whoever speaks to phones and for the phone that
// ships with Yamato: packets and streams between a bridge and a device (transport.go), the frames of a shell with separate
// outputs and an exit code (shell.go), and the transfer of files (files.go). Written from the descriptions that the OS
// project publishes with the bridge's source: protocol.txt, SERVICES.TXT, SYNC.TXT and shell_service.h.
package bridge
