package pack

import (
	"bytes"
	"encoding/binary"
	"slices"
	"unicode/utf16"
)

// xmlWriter writes Android's binary XML: a string pool, the resource ids of the
// attribute names, and a chunk for each start and end of an element
// (ResourceTypes.h of the platform). Attribute names that have a resource id
// stand first in the pool, since the id's position is the name's.
type xmlWriter struct {
	namespace string
	events    []func()
	names     []string
	resources []uint32
	others    []string
	body      bytes.Buffer
}

type attribute struct {
	name     string
	resource uint32
	kind     byte
	text     string
	number   uint32
}

func plainAttr(name, value string) attribute {
	return attribute{name: name, kind: 0x03, text: value}
}

func textAttr(name string, resource uint32, value string) attribute {
	return attribute{name: name, resource: resource, kind: 0x03, text: value}
}

func intAttr(name string, resource uint32, value int) attribute {
	return attribute{name: name, resource: resource, kind: 0x10, number: uint32(value)}
}

func referenceAttr(name string, resource, to uint32) attribute {
	return attribute{name: name, resource: resource, kind: 0x01, number: to}
}

func boolAttr(name string, resource uint32, value bool) attribute {
	a := attribute{name: name, resource: resource, kind: 0x12}
	if value {
		a.number = 0xffffffff
	}
	return a
}

func newXMLWriter(namespace string) *xmlWriter {
	x := &xmlWriter{namespace: namespace, others: []string{"android", namespace}}
	x.events = append(x.events, func() { x.chunk(0x0100, x.index("android"), x.index(namespace)) })
	return x
}

func (x *xmlWriter) start(name string, attrs ...attribute) {
	x.intern(name)
	for _, a := range attrs {
		if a.resource != 0 {
			if !slices.Contains(x.names, a.name) {
				x.names, x.resources = append(x.names, a.name), append(x.resources, a.resource)
			}
		} else {
			x.intern(a.name)
		}
		if a.kind == 0x03 {
			x.intern(a.text)
		}
	}
	slices.SortStableFunc(attrs, func(a, b attribute) int { // tools look attributes up by rising id
		return int(int64(a.resource) - int64(b.resource))
	})
	x.events = append(x.events, func() { x.element(name, attrs) })
}

func (x *xmlWriter) end(name string) {
	x.events = append(x.events, func() { x.chunk(0x0103, none, x.index(name)) })
}

const none = 0xffffffff

func (x *xmlWriter) intern(s string) {
	if !slices.Contains(x.others, s) {
		x.others = append(x.others, s)
	}
}

func (x *xmlWriter) index(s string) uint32 {
	return uint32(len(x.names) + slices.Index(x.others, s))
}

func (x *xmlWriter) element(name string, attrs []attribute) {
	words := []uint32{none, x.index(name), 20<<16 | 20, uint32(len(attrs)), 0}
	for _, a := range attrs {
		space, index, raw, data := uint32(none), uint32(0), uint32(none), a.number
		if a.resource != 0 {
			space, index = x.index(x.namespace), uint32(slices.Index(x.names, a.name))
		} else {
			index = x.index(a.name)
		}
		if a.kind == 0x03 {
			raw, data = x.index(a.text), x.index(a.text)
		}
		words = append(words, space, index, raw, uint32(a.kind)<<24|8, data)
	}
	x.chunk(0x0102, words...)
}

// chunk writes one node: header, line number, no comment, and what follows.
func (x *xmlWriter) chunk(kind uint16, words ...uint32) {
	le := binary.LittleEndian
	out := le.AppendUint16(nil, kind)
	out = le.AppendUint16(out, 16)
	out = le.AppendUint32(out, uint32(16+4*len(words)))
	out = le.AppendUint32(out, 1)
	out = le.AppendUint32(out, none)
	for _, w := range words {
		out = le.AppendUint32(out, w)
	}
	x.body.Write(out)
}

func (x *xmlWriter) bytes() []byte {
	for _, e := range x.events {
		e()
	}
	x.chunk(0x0101, x.index("android"), x.index(x.namespace))
	le := binary.LittleEndian
	pool := x.pool()
	ids := le.AppendUint16(nil, 0x0180)
	ids = le.AppendUint16(ids, 8)
	ids = le.AppendUint32(ids, uint32(8+4*len(x.resources)))
	for _, r := range x.resources {
		ids = le.AppendUint32(ids, r)
	}
	out := le.AppendUint16(nil, 0x0003)
	out = le.AppendUint16(out, 8)
	out = le.AppendUint32(out, uint32(8+len(pool)+len(ids)+x.body.Len()))
	return append(append(append(out, pool...), ids...), x.body.Bytes()...)
}

func (x *xmlWriter) pool() []byte {
	return stringPool(append(slices.Clone(x.names), x.others...))
}

// stringPool writes a pool of strings in UTF-16.
func stringPool(all []string) []byte {
	le := binary.LittleEndian
	var offsets, data []byte
	for _, s := range all {
		offsets = le.AppendUint32(offsets, uint32(len(data)))
		units := utf16.Encode([]rune(s))
		data = le.AppendUint16(data, uint16(len(units)))
		for _, u := range units {
			data = le.AppendUint16(data, u)
		}
		data = append(data, 0, 0)
	}
	for len(data)%4 != 0 {
		data = append(data, 0)
	}
	start := 28 + len(offsets)
	out := le.AppendUint16(nil, 0x0001)
	out = le.AppendUint16(out, 28)
	out = le.AppendUint32(out, uint32(start+len(data)))
	for _, w := range []uint32{uint32(len(all)), 0, 0, uint32(start), 0} {
		out = le.AppendUint32(out, w)
	}
	return append(append(out, offsets...), data...)
}
