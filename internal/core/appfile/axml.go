package appfile

import "fmt"

type xmlAttr struct {
	name     string
	resource uint32 // 0 where the attribute has none
	kind     byte
	text     string // for strings
	number   uint32 // for everything else
}

type xmlEvent struct {
	name  string
	end   bool
	attrs []xmlAttr
}

func (e xmlEvent) attr(resource uint32) (xmlAttr, bool) {
	for _, a := range e.attrs {
		if a.resource == resource {
			return a, true
		}
	}
	return xmlAttr{}, false
}

// Chunk types of binary XML (ResourceTypes.h).
const (
	chunkStrings   = 0x0001
	chunkXML       = 0x0003
	chunkResources = 0x0180
	chunkStart     = 0x0102
	chunkEnd       = 0x0103
)

// readBinaryXML reads an Android binary XML document, which file names, and calls
// visit for the start and the end of each element.
func readBinaryXML(file string, data []byte, visit func(xmlEvent) error) error {
	damaged := func(at int, what string) error { return damagedIn(file, at, what) }
	if len(data) < 8 || le16(data) != chunkXML {
		return refuse(hintDamaged, "%s is not binary XML", file)
	}
	if size := int64(le32(data[4:])); size > int64(len(data)) {
		return damaged(len(data), fmt.Sprintf("the document is cut short: %d of %d bytes", len(data), size))
	}
	var strings stringPool
	var resources []byte
	depth := 0
	for at := int(le16(data[2:])); at < len(data); {
		if at+8 > len(data) {
			return damaged(at, "a chunk is cut short")
		}
		kind, head, size := le16(data[at:]), int(le16(data[at+2:])), int64(le32(data[at+4:]))
		if size < 8 || int64(head) > size || size > int64(len(data)-at) || head < 8 {
			return damaged(at, "a chunk's size reaches past the end")
		}
		chunk := data[at : at+int(size)]
		var err error
		switch kind {
		case chunkStrings:
			strings, err = newStringPool(file, chunk, at)
		case chunkResources:
			resources = chunk[head:]
		case chunkStart:
			if depth++; depth > 200 {
				return damaged(at, "elements are nested more than 200 deep")
			}
			err = readStart(file, chunk, head, at, strings, resources, visit)
		case chunkEnd:
			if depth--; depth < 0 {
				return damaged(at, "an element ends that never began")
			}
			err = visit(xmlEvent{end: true})
		}
		if err != nil {
			return err
		}
		at += int(size)
	}
	if depth != 0 {
		return damaged(len(data), "an element never ends")
	}
	return nil
}

func readStart(file string, chunk []byte, head, at int, strings stringPool, resources []byte,
	visit func(xmlEvent) error) error {
	body := chunk[head:]
	if len(body) < 20 {
		return damagedIn(file, at, "an element is cut short")
	}
	name, err := strings.get(le32(body[4:]))
	if err != nil {
		return err
	}
	first, each, count := int(le16(body[8:])), int(le16(body[10:])), int(le16(body[12:]))
	if count > 0 && (each < 20 || first+each*count > len(body)) {
		return damagedIn(file, at, "an element's attributes reach past its end")
	}
	event := xmlEvent{name: name, attrs: make([]xmlAttr, 0, count)}
	for i := range count {
		b := body[first+i*each:]
		index := le32(b[4:])
		a := xmlAttr{kind: b[15], number: le32(b[16:])}
		if a.name, err = strings.get(index); err != nil {
			return err
		}
		if int64(index)*4+4 <= int64(len(resources)) {
			a.resource = le32(resources[index*4:])
		}
		if a.kind == typeString {
			if a.text, err = strings.get(a.number); err != nil {
				return err
			}
		} else if raw := le32(b[8:]); raw != 0xffffffff && a.kind != typeInt && a.kind != typeIntHex &&
			a.kind != typeReference {
			if a.text, err = strings.get(raw); err != nil {
				return err
			}
		}
		event.attrs = append(event.attrs, a)
	}
	return visit(event)
}

// stringPool reads strings on demand, so that a pool that claims millions of
// them costs nothing.
type stringPool struct {
	offsets []byte
	data    []byte
	utf8    bool
	file    string
	at      int
}

func newStringPool(file string, chunk []byte, at int) (stringPool, error) {
	if len(chunk) < 28 {
		return stringPool{}, damagedIn(file, at, "the string pool is cut short")
	}
	head := int64(le16(chunk[2:]))
	count, flags, start := int64(le32(chunk[8:])), le32(chunk[16:]), int64(le32(chunk[20:]))
	if head < 28 || head+count*4 > int64(len(chunk)) || start > int64(len(chunk)) {
		return stringPool{}, damagedIn(file, at, "the string pool's index reaches past its end")
	}
	return stringPool{chunk[head : head+count*4], chunk[start:], flags&(1<<8) != 0, file, at}, nil
}

func (p stringPool) get(index uint32) (string, error) {
	if index == 0xffffffff {
		return "", nil
	}
	if int64(index)*4+4 > int64(len(p.offsets)) {
		return "", damagedIn(p.file, p.at, fmt.Sprintf("string %d is asked for, of %d", index, len(p.offsets)/4))
	}
	offset := int64(le32(p.offsets[index*4:]))
	if offset >= int64(len(p.data)) {
		return "", damagedIn(p.file, p.at, fmt.Sprintf("string %d lies past the end of the pool", index))
	}
	b := p.data[offset:]
	if p.utf8 {
		return p.readUTF8(b, index)
	}
	return p.readUTF16(b, index)
}

func (p stringPool) readUTF8(b []byte, index uint32) (string, error) {
	_, b, ok := length8(b) // in characters; the one in bytes follows
	n, b, ok2 := length8(b)
	if !ok || !ok2 || n > len(b) {
		return "", damagedIn(p.file, p.at, fmt.Sprintf("string %d is cut short", index))
	}
	return string(b[:n]), nil
}

func (p stringPool) readUTF16(b []byte, index uint32) (string, error) {
	cut := damagedIn(p.file, p.at, fmt.Sprintf("string %d is cut short", index))
	if len(b) < 2 {
		return "", cut
	}
	n := int(le16(b))
	b = b[2:]
	if n&0x8000 != 0 {
		if len(b) < 2 {
			return "", cut
		}
		n, b = (n&0x7fff)<<16|int(le16(b)), b[2:]
	}
	if n*2 > len(b) {
		return "", cut
	}
	units := make([]uint16, n)
	for i := range units {
		units[i] = le16(b[i*2:])
	}
	return decodeUTF16(units), nil
}

func length8(b []byte) (int, []byte, bool) {
	if len(b) < 1 {
		return 0, nil, false
	}
	if b[0]&0x80 == 0 {
		return int(b[0]), b[1:], true
	}
	if len(b) < 2 {
		return 0, nil, false
	}
	return int(b[0]&0x7f)<<8 | int(b[1]), b[2:], true
}
