// Package e2e tries the product as its users have it: real processes on
// loopback, a real PostgreSQL, called through the client and the commands.
package e2e
