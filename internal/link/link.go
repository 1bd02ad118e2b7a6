// Package link holds the words that service and host exchange over their
// WebSocket: types, version and framing. Messages are JSON objects; each side
// sends one kind (FromHost, ToHost) in which exactly one field is set.
//
// The rules. The host says Hello first and the service answers Welcome. Each
// lease has a rising number; each word about a lease carries it, and a word
// about a lease that has ended is refused, but for Clean. Events of a lease are
// numbered from 1 without gaps; the service acknowledges after commit; the host
// sends again what was not acknowledged; a resend is harmless. What an event
// refers to by digest has been uploaded before.
package link

import (
	"context"
	"encoding/json"

	"yamato/internal/core/appfile"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
)

// Version is what both ends must speak.
const Version = 8

// MaxMessage bounds a message, in bytes.
const MaxMessage = 16 << 20

// SizeOf is how many bytes v takes in a message.
func SizeOf(v any) (int, error) {
	body, err := json.Marshal(v)
	return len(body), err
}

// Conn carries messages one way and the other. Send may be called from several
// goroutines.
type Conn interface {
	Send(ctx context.Context, message any) error
	Receive(ctx context.Context, into any) error
}

// FromHost is a message of the host's.
type FromHost struct {
	Adopted bool    `json:"adopted,omitempty"` // it has kept the token that it was welcomed with
	Hello   *Hello  `json:"hello,omitempty"`
	Renew   []int64 `json:"renew,omitempty"` // leases to keep
	Ask     int64   `json:"ask,omitempty"`   // numbers what is asked by Renew, from 1 on
	Events  []Event `json:"events,omitempty"`
	Seen    *Seen   `json:"seen,omitempty"`
	Fleet   *Fleet  `json:"fleet,omitempty"`
	Done    *Done   `json:"done,omitempty"`
}

// ToHost is a message of the service's.
type ToHost struct {
	Welcome *Welcome  `json:"welcome,omitempty"`
	Leases  []Lease   `json:"leases,omitempty"`
	End     []End     `json:"end,omitempty"`
	Renewed *Renewed  `json:"renewed,omitempty"`
	Acks    []Ack     `json:"acks,omitempty"`
	Refused []Refusal `json:"refused,omitempty"`
	See     []See     `json:"see,omitempty"`
	Do      []Errand  `json:"do,omitempty"`
	Heard   []int64   `json:"heard,omitempty"` // errands whose answer has been kept
}

// Fleet tells what has changed at a host's site.
type Fleet struct {
	Devices []Device `json:"devices,omitempty"` // with their conditions; new ones too
	Gone    []string `json:"gone,omitempty"`    // devices that have been removed
	Offer   *Offer   `json:"offer,omitempty"`
	Load    *Load    `json:"load,omitempty"`
}

// Offer is what a site offers for virtual devices.
type Offer struct {
	Models   []fleet.Model   `json:"models,omitempty"`
	Images   []fleet.Image   `json:"images,omitempty"`
	Licences []fleet.Licence `json:"licences,omitempty"`
	Capacity fleet.Capacity  `json:"capacity"`
}

// Load is what is taken of a host.
type Load struct {
	Running []fleet.Running `json:"running"`  // virtual devices that are up
	UsedMB  int             `json:"used_mb"`  // of the machine's memory, by everything
	TotalMB int             `json:"total_mb"` // what the machine has
	CPU     float64         `json:"cpu"`      // share of its processors that is busy, 0 to 1
	CPUs    int             `json:"cpus"`     // processors it has
}

// What a host can be asked to do outside of leases.
const (
	DoBoot   = "boot"
	DoHalt   = "halt"
	DoEmpty  = "empty"  // back to how it was first made
	DoMake   = "make"   // a virtual device
	DoRemove = "remove" // a virtual device
	DoFetch  = "fetch"  // an OS image
	DoCheck  = "check"  // readiness
	DoProbe  = "probe"  // whether a sidelined device works again
	DoDeed   = "deed"   // what hands and fate do to a device, where its driver can imitate them
)

// Errand asks a host to do something.
type Errand struct {
	ID     int64      `json:"id"`
	What   string     `json:"what"`
	Device string     `json:"device,omitempty"`
	Args   ErrandArgs `json:"args"`
}

// ErrandArgs are what an errand needs beside a device.
type ErrandArgs struct {
	Model string `json:"model,omitempty"`
	Image string `json:"image,omitempty"` // "Android 15"
	Boot  bool   `json:"boot,omitempty"`
	Deed  string `json:"deed,omitempty"`
	Count int    `json:"count,omitempty"`
}

// Done answers an errand. Trouble is empty where it was done.
type Done struct {
	ID int64 `json:"id"` // 0 where nobody had asked
	// the host's own number then, from 1: it is said until -Own is heard
	Own     int64         `json:"own,omitempty"`
	Device  string        `json:"device,omitempty"` // which device it is about then
	Trouble string        `json:"trouble,omitempty"`
	Remedy  string        `json:"remedy,omitempty"`
	Broken  *fleet.Broken `json:"broken,omitempty"` // the device was given up
}

// Number is what the service says that it has kept it by: the errand's, or the host's own below zero.
func (d Done) Number() int64 {
	if d.ID == 0 {
		return -d.Own
	}
	return d.ID
}

// See asks the host to show what is on a device's screen at this moment, whatever
// the device does. It needs no lease: nothing is touched.
type See struct {
	ID     int64  `json:"id"`
	Device string `json:"device"`
}

// Seen answers See. Picture and tree have been uploaded before.
type Seen struct {
	ID      int64  `json:"id"`
	Trouble string `json:"trouble,omitempty"` // why there is nothing to be seen
	Picture string `json:"picture,omitempty"` // digest of a PNG
	Tree    string `json:"tree,omitempty"`    // digest of a screen tree
}

// FilmList names the file of a film, a zip of PNGs, that lists its pictures.
const FilmList = "film.json"

// Frame is one picture of a film, taken when the screen had changed.
type Frame struct {
	File string `json:"file"`
	AtMS int64  `json:"at_ms"` // device time since the case began
}

// Hello opens a link.
type Hello struct {
	Version int      `json:"version"`
	Host    string   `json:"host"`              // its name, one of a kind in its project
	Site    string   `json:"site"`              // where it is
	Program string   `json:"program"`           // version of the program
	Boot    string   `json:"boot,omitempty"`    // of this process and no other
	Started int64    `json:"started,omitempty"` // when that was, in milliseconds since 1970
	Devices []Device `json:"devices"`
	Offer   *Offer   `json:"offer,omitempty"`
	Load    *Load    `json:"load,omitempty"`
	Errands []int64  `json:"errands,omitempty"` // that it has in hand
}

// Device is a device of the host's, and the lease that it has not been cleaned
// of yet (0 for none).
type Device struct {
	fleet.Device
	Lease     int64           `json:"lease"`
	Condition fleet.Condition `json:"condition,omitzero"`
}

// Welcome accepts a link. TTLMS is how long a lease lasts unless it is renewed.
type Welcome struct {
	Version  int   `json:"version"`
	TTLMS    int64 `json:"ttl_ms"`
	Replaced bool  `json:"replaced,omitempty"` // another process of this name had the link until now

	// Token is the host's own from now on, where it came with the one that hosts share, which is refused once it has
	// been used.
	Token string `json:"token,omitempty"`
}

// Lease gives a device to a holder, alone, for a time. What it is for is one of the
// pointers; the rest is the same for all: taking, renewing, ending, cleaning.
type Lease struct {
	Number int64    `json:"number"`
	Device string   `json:"device"`
	Holder string   `json:"holder"`          // for people: "run 3"
	Apps   []string `json:"apps,omitempty"`  // ids of what it puts on the device, to be taken off again
	Leave  bool     `json:"leave,omitempty"` // they stay installed
	// of the events that the service has; over 0, the host must have lost its journal
	LastSeq int64 `json:"last_seq"`
	TTLMS   int64 `json:"ttl_ms"` // what is left of it

	Attempt *Attempt `json:"attempt,omitempty"`
	Session *Session `json:"session,omitempty"`
}

// Attempt is a lease's work where a leg of a run holds it.
type Attempt struct {
	Run         int64             `json:"run"` // the run's number, for people
	Number      int               `json:"number"`
	Combination fleet.Combination `json:"combination"`
	Package     appfile.Package   `json:"package"`
	PackageBlob string            `json:"package_blob"` // digest
	SuiteBlob   string            `json:"suite_blob"`
	Cases       []int             `json:"cases"` // by position in the suite
	Seed        int64             `json:"seed"`
	RealTime    bool              `json:"real_time"`
	Known       []string          `json:"known"`             // locators that have matched in this app before
	Wants       bool              `json:"wants,omitempty"`   // its suite wants secrets or accounts: they are asked for
	Updates     []Update          `json:"updates,omitempty"` // builds that its suite installs over the first
	Steps       bool              `json:"steps,omitempty"`   // each step is told as it ends
	StepMS      int64             `json:"step_ms,omitempty"` // patience, where neither step nor suite says otherwise
	CaseMS      int64             `json:"case_ms,omitempty"` // that a case may take, by the device's clock
	Keep        evidence.Keeping  `json:"keep,omitzero"`     // what is kept, but for what the suite says
	LegMS       int64             `json:"leg_ms,omitempty"`  // that the whole may take, by the host's clock
}

// Update is another build of the app, as a script names it. Trouble tells why it cannot be had.
type Update struct {
	Build       string          `json:"build"`
	Package     appfile.Package `json:"package,omitzero"`
	PackageBlob string          `json:"package_blob,omitempty"`
	Trouble     string          `json:"trouble,omitempty"`
}

// Lent is what a lease's suite wants of its project: secrets by name, and what the accounts that
// are lent to it hold, by name and field. It is asked for, and never part of a lease, so that it
// stands in no journal.
type Lent struct {
	Secrets  map[string]string            `json:"secrets"`
	Accounts map[string]map[string]string `json:"accounts"`
}

// End tells the host to end a lease early.
type End struct {
	Lease  int64  `json:"lease"`
	Reason string `json:"reason"`
}

// Renewed lists the leases that go on for TTLMS from when the host asked. A
// lease that was asked for and is not listed has ended.
type Renewed struct {
	Ask    int64   `json:"ask,omitempty"` // whose answer it is; 0 from an older service
	Leases []int64 `json:"leases"`
	TTLMS  int64   `json:"ttl_ms"`
}

// Ack tells that all events of a lease up to Seq are committed.
type Ack struct {
	Lease int64 `json:"lease"`
	Seq   int64 `json:"seq"`
}

// Refusal tells that no word about a lease is taken any more.
type Refusal struct {
	Lease  int64  `json:"lease"`
	Reason string `json:"reason"`
}

// Event is something that happened under a lease. Exactly one of the pointers
// is set. Began, Finished and Clean are of any lease, the cases those of an attempt, entries
// those of a session.
type Event struct {
	Lease    int64         `json:"lease"`
	Seq      int64         `json:"seq"`
	Began    *Began        `json:"began,omitempty"`
	CaseOpen *CaseOpen     `json:"case_open,omitempty"`
	Step     *StepEnded    `json:"step,omitempty"`
	Entry    *Entry        `json:"entry,omitempty"`
	Case     *CaseClosed   `json:"case,omitempty"`
	Evidence []EvidenceRef `json:"evidence,omitempty"` // of the lease as a whole
	Finished *Finished     `json:"finished,omitempty"`
	Clean    *Clean        `json:"clean,omitempty"`
}

// Began tells that what a lease is for is under way, and under which circumstances.
type Began struct {
	Circumstances json.RawMessage `json:"circumstances"`
}

// CaseOpen tells that a case has begun.
type CaseOpen struct {
	Case int `json:"case"`
}

// StepEnded tells how a step of a case went, where that is wanted at once.
type StepEnded struct {
	Case int               `json:"case"`
	Step script.StepRecord `json:"step"`
}

// CaseClosed is the result of a case.
type CaseClosed struct {
	Case     int                 `json:"case"`
	Verdict  string              `json:"verdict"`
	TookMS   int64               `json:"took_ms"` // device time
	Failure  *script.Failure     `json:"failure,omitempty"`
	Steps    []script.StepRecord `json:"steps,omitempty"`
	Matched  []string            `json:"matched,omitempty"` // locators that matched and were not Known
	NotKept  []evidence.NotKept  `json:"not_kept,omitempty"`
	Seen     []script.Seen       `json:"seen,omitempty"` // what the app's screens had on them
	Evidence []EvidenceRef       `json:"evidence,omitempty"`
}

// EvidenceRef refers to evidence that has been uploaded.
type EvidenceRef struct {
	Sort      string          `json:"sort"` // picture, tree, log or film
	Name      string          `json:"name"`
	MediaType string          `json:"media_type"`
	Digest    string          `json:"digest"`
	Size      int64           `json:"size"`
	Facts     json.RawMessage `json:"facts,omitempty"` // what is to be known of it without opening it, at most MaxFacts
}

// MaxFacts bounds what is said of a piece of evidence, in bytes.
const MaxFacts = 8 << 10

// Finished ends a lease. Trouble is empty where all cases could be judged.
type Finished struct {
	Trouble string `json:"trouble,omitempty"`
	Device  bool   `json:"device,omitempty"` // the trouble is the device's own
}

// Clean tells that what the lease left on the device is gone, and how the device
// is then. It is the last word about a lease, and the only one that is taken after
// its end. A device that is out of reach is cleaned by its host as soon as it is back, and
// is not ready until then.
type Clean struct {
	Items     []string         `json:"items,omitempty"`   // what was undone, for people, where a person had the device
	Trouble   string           `json:"trouble,omitempty"` // why it could not be cleaned
	Later     bool             `json:"later,omitempty"`   // it is out of reach, and not clean yet
	Condition *fleet.Condition `json:"condition,omitempty"`
	Broken    *fleet.Broken    `json:"broken,omitempty"` // the device was given up
}
