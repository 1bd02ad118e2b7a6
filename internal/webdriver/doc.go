// Package webdriver speaks W3C WebDriver (the Recommendation, and its Editor's Draft where that says more), as a local
// end: sessions, all commands, and every error code with whose trouble it is. Its tables of commands and errors are
// the remote end's too. Package bidi speaks WebDriver BiDi.
//
// A remote end is not trusted: answers are bounded in bytes, redirects are not followed, every call has a deadline,
// and what comes is checked for its type before it is used.
package webdriver
