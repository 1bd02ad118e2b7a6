package pack

import (
	"encoding/binary"
	"slices"
	"unicode/utf16"
)

// Resource ids of the sample app's table.
const (
	resourceIcon  = 0x7f010000
	resourceLabel = 0x7f020000
)

// resourceTable writes a compiled resource table (ResourceTypes.h of the
// platform) with one icon and the app's texts by key and language, "" for all.
func resourceTable(id, iconEntry string, texts map[string]map[string]string) []byte {
	values := []string{iconEntry}
	var keys, languages []string
	for key, by := range texts {
		keys = append(keys, key)
		for language := range by {
			if !slices.Contains(languages, language) {
				languages = append(languages, language)
			}
		}
	}
	slices.Sort(keys)
	slices.Sort(languages)
	slices.SortStableFunc(keys, func(a, b string) int { // the label's id is known
		if a == "app_name" {
			return -1
		} else if b == "app_name" {
			return 1
		}
		return 0
	})
	keyPool := stringPool(append([]string{"icon"}, keys...))
	typePool := stringPool([]string{"mipmap", "string"})
	body := append(slices.Clone(typePool), keyPool...)
	body = append(body, typeSpec(1, 1)...)
	body = append(body, typeOf(1, "", 320, []uint32{0}, []uint32{0})...)
	body = append(body, typeSpec(2, len(keys))...)
	for _, language := range languages {
		keyAt, valueAt := make([]uint32, len(keys)), make([]uint32, len(keys))
		for i, key := range keys {
			keyAt[i], valueAt[i] = uint32(i+1), none
			if text, ok := texts[key][language]; ok {
				valueAt[i] = uint32(len(values))
				values = append(values, text)
			}
		}
		body = append(body, typeOf(2, language, 0, keyAt, valueAt)...)
	}
	le := binary.LittleEndian
	head := le.AppendUint32(nil, 0x7f)
	name := utf16.Encode([]rune(id))
	for i := range 128 {
		unit := uint16(0)
		if i < len(name) && i < 127 {
			unit = name[i]
		}
		head = le.AppendUint16(head, unit)
	}
	for _, w := range []uint32{288, 2, uint32(288 + len(typePool)), uint32(len(keys) + 1), 0} {
		head = le.AppendUint32(head, w)
	}
	pack := chunkOf(0x0200, head, body)
	return chunkOf(0x0002, le.AppendUint32(nil, 1), append(stringPool(values), pack...))
}

// chunkOf writes a chunk: kind, length of the head, length, head, body.
func chunkOf(kind uint16, head, body []byte) []byte {
	le := binary.LittleEndian
	out := le.AppendUint16(nil, kind)
	out = le.AppendUint16(out, uint16(8+len(head)))
	out = le.AppendUint32(out, uint32(8+len(head)+len(body)))
	return append(append(out, head...), body...)
}

func typeSpec(id byte, count int) []byte {
	head := binary.LittleEndian.AppendUint32([]byte{id, 0, 0, 0}, uint32(count))
	return chunkOf(0x0202, head, make([]byte, 4*count))
}

// typeOf writes the entries of one type in one configuration. A value of none
// leaves the entry out.
func typeOf(id byte, language string, density uint16, keys, values []uint32) []byte {
	le := binary.LittleEndian
	var index, entries []byte
	for i, v := range values {
		if v == none {
			index = le.AppendUint32(index, none)
			continue
		}
		index = le.AppendUint32(index, uint32(len(entries)))
		entries = le.AppendUint32(entries, 8) // size, no flags
		entries = le.AppendUint32(entries, keys[i])
		entries = le.AppendUint32(entries, 0x03000008) // a string
		entries = le.AppendUint32(entries, v)
	}
	const configSize = 64
	config := make([]byte, configSize)
	le.PutUint32(config, configSize)
	if len(language) == 5 { // de-DE
		copy(config[8:], language[:2])
		copy(config[10:], language[3:])
	}
	le.PutUint16(config[14:], density)
	head := le.AppendUint32([]byte{id, 0, 0, 0}, uint32(len(values)))
	head = le.AppendUint32(head, uint32(8+12+configSize+len(index)))
	head = append(head, config...)
	return chunkOf(0x0201, head, append(index, entries...))
}
