// Package sandbox runs the program of one app for stand-ins in a child process of its own, within
// bounds: Sandbox is the end in the host, Run the end in the child, and Request and Reply are what
// passes between them.
package sandbox
