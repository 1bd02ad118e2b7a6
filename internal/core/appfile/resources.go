package appfile

import (
	"archive/zip"
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
)

const (
	tableEntry = "resources.arsc"
	maxTable   = 48 << 20 // bytes of a resource table
	maxKinds   = 50_000   // chunks of entries in a table
	maxTexts   = 200_000  // texts that are given of a table
	maxTextual = 32 << 20 // bytes of them: many may refer to one long text
)

// Chunk types of a resource table (ResourceTypes.h).
const (
	chunkTable   = 0x0002
	chunkPackage = 0x0200
	chunkType    = 0x0201
)

// table is a compiled resource table. It is looked through in place: nothing in
// it is kept twice, so that a table that claims millions of entries costs nothing.
type table struct {
	values   stringPool
	packages []tablePackage
}

type tablePackage struct {
	id    uint32
	types stringPool
	keys  stringPool
	kinds []tableType
}

// tableType is one chunk of entries: those of one type in one configuration.
type tableType struct {
	id      uint32
	config  config
	count   int
	index   []byte
	entries []byte
	sparse  bool
	short   bool // offsets of 16 bits, in units of four bytes
	at      int
}

// config is for which devices a value is meant, as far as it matters here.
type config struct {
	language string // BCP 47, "" for all
	density  int    // dots per inch, 0 for all
	special  bool   // it is for some screens, networks or modes only
}

// rank is how much a value is for all devices: 3 is for all, 2 for all languages.
func (c config) rank() int {
	switch {
	case c.language == "" && !c.special:
		return 3
	case c.language == "":
		return 2
	}
	return 1
}

type tableValue struct {
	kind byte
	data uint32
}

func broken(at int, what string) error { return damagedIn(tableEntry, at, what) }

// chunks walks over the chunks in data, which starts at byte base of the table.
func chunks(data []byte, base int, visit func(kind uint16, head int, chunk []byte, at int) error) error {
	for at := 0; at < len(data); {
		if at+8 > len(data) {
			return broken(base+at, "a chunk is cut short")
		}
		kind, head, size := le16(data[at:]), int(le16(data[at+2:])), int64(le32(data[at+4:]))
		if size < 8 || head < 8 || int64(head) > size || size > int64(len(data)-at) {
			return broken(base+at, "a chunk's size reaches past the end")
		}
		if err := visit(kind, head, data[at:at+int(size)], base+at); err != nil {
			return err
		}
		at += int(size)
	}
	return nil
}

func readTable(data []byte) (*table, error) {
	if len(data) < 12 || le16(data) != chunkTable {
		return nil, broken(0, "it is no resource table")
	}
	head, size := int(le16(data[2:])), int64(le32(data[4:]))
	if size > int64(len(data)) || head < 12 || int64(head) > size {
		return nil, broken(0, "the table is cut short")
	}
	t := &table{}
	kinds := 0
	err := chunks(data[head:size], head, func(kind uint16, head int, chunk []byte, at int) (err error) {
		switch kind {
		case chunkStrings:
			t.values, err = newStringPool(tableEntry, chunk, at)
		case chunkPackage:
			var p tablePackage
			if p, err = readTablePackage(chunk, head, at, &kinds); err == nil {
				t.packages = append(t.packages, p)
			}
		}
		return err
	})
	return t, err
}

func readTablePackage(chunk []byte, head, at int, kinds *int) (tablePackage, error) {
	if head < 284 {
		return tablePackage{}, broken(at, "a package's head is cut short")
	}
	p := tablePackage{id: le32(chunk[8:])}
	types, keys := int64(le32(chunk[268:])), int64(le32(chunk[276:]))
	err := chunks(chunk[head:], at+head, func(kind uint16, inner int, c []byte, here int) (err error) {
		switch {
		case kind == chunkStrings && int64(here-at) == types:
			p.types, err = newStringPool(tableEntry, c, here)
		case kind == chunkStrings && int64(here-at) == keys:
			p.keys, err = newStringPool(tableEntry, c, here)
		case kind == chunkType:
			if *kinds++; *kinds > maxKinds {
				return broken(here, "it holds too many chunks of entries")
			}
			var one tableType
			if one, err = readTableType(c, inner, here); err == nil {
				p.kinds = append(p.kinds, one)
			}
		}
		return err
	})
	return p, err
}

func readTableType(c []byte, head, at int) (tableType, error) {
	if head < 24 {
		return tableType{}, broken(at, "a chunk of entries is cut short")
	}
	t := tableType{id: uint32(c[8]), sparse: c[9]&1 != 0, short: c[9]&2 != 0, count: int(le32(c[12:])), at: at}
	start := int64(le32(c[16:]))
	each := 4
	if t.short && !t.sparse {
		each = 2
	}
	if end := int64(head) + int64(t.count)*int64(each); end > int64(len(c)) || start > int64(len(c)) ||
		start < int64(head) {
		return t, broken(at, "a chunk of entries has an index that reaches past its end")
	}
	t.index, t.entries = c[head:head+t.count*each], c[start:]
	t.config = readConfig(c[20:head])
	return t, nil
}

// readConfig reads a ResTable_config. Older ones are shorter.
func readConfig(b []byte) config {
	size := int(le32(b))
	b = b[:min(len(b), size)]
	var c config
	if len(b) < 12 {
		return c
	}
	for i, v := range b[4:min(len(b), 36)] { // all but language, density and OS version
		if at := i + 4; v != 0 && (at < 8 || at >= 12 && at < 14 || at >= 16 && at < 24 || at >= 28) {
			c.special = true
		}
	}
	language, region := unpack(b[8:10], 'a'), unpack(b[10:12], '0')
	if len(b) >= 16 {
		c.density = int(le16(b[14:]))
	}
	script := ""
	if len(b) >= 40 {
		script = string(bytes.TrimRight(b[36:40], "\x00"))
	}
	if language == "" {
		return c
	}
	c.language = language
	if script != "" && isWord(script) {
		c.language += "-" + script
	}
	if region != "" {
		c.language += "-" + region
	}
	return c
}

// unpack reads a language or region: two letters, or three in five bits each.
func unpack(b []byte, base byte) string {
	if b[0] == 0 {
		return ""
	}
	letters := []byte{b[0], b[1]}
	if b[0]&0x80 != 0 {
		letters = []byte{base + b[1]&0x1f, base + (b[1]>>5 | b[0]&3<<3), base + (b[0]>>2)&0x1f}
	}
	if s := string(letters); isWord(s) {
		return s
	}
	return ""
}

func isWord(s string) bool {
	for _, r := range s {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') {
			return false
		}
	}
	return true
}

// entry gives the value of an entry that is no bag of values, and its key.
func (t tableType) entry(offset int64) (key uint32, v tableValue, plain bool, err error) {
	if offset < 0 || offset+8 > int64(len(t.entries)) {
		return 0, v, false, broken(t.at, "an entry lies past the end")
	}
	b := t.entries[offset:]
	size, flags := le16(b), le16(b[2:])
	if flags&8 != 0 { // compact
		return uint32(size), tableValue{byte(flags >> 8), le32(b[4:])}, true, nil
	}
	if flags&1 != 0 {
		return le32(b[4:]), v, false, nil
	}
	if len(b) < 16 || int(size)+8 > len(b) || size < 8 {
		return 0, v, false, broken(t.at, "an entry's value lies past the end")
	}
	return le32(b[4:]), tableValue{b[size+3], le32(b[size+4:])}, true, nil
}

// walk calls visit with each entry's number and place.
func (t tableType) walk(visit func(number uint32, offset int64) error) error {
	for i := range t.count {
		var number uint32
		var offset int64
		switch {
		case t.sparse:
			number, offset = uint32(le16(t.index[i*4:])), int64(le16(t.index[i*4+2:]))*4
		case t.short:
			at := le16(t.index[i*2:])
			if at == 0xffff {
				continue
			}
			number, offset = uint32(i), int64(at)*4
		default:
			at := le32(t.index[i*4:])
			if at == 0xffffffff {
				continue
			}
			number, offset = uint32(i), int64(at)
		}
		if err := visit(number, offset); err != nil {
			return err
		}
	}
	return nil
}

// at gives the place of one entry, -1 where this chunk has none of that number.
func (t tableType) find(number uint32) int64 {
	if !t.sparse {
		i := int(number)
		if i >= t.count {
			return -1
		}
		if t.short {
			if v := le16(t.index[i*2:]); v != 0xffff {
				return int64(v) * 4
			}
			return -1
		}
		if v := le32(t.index[i*4:]); v != 0xffffffff {
			return int64(v)
		}
		return -1
	}
	found := int64(-1)
	_ = t.walk(func(n uint32, offset int64) error {
		if n == number {
			found = offset
		}
		return nil
	})
	return found
}

// lookUp gives a resource's values with what each is for.
func (t *table) lookUp(id uint32, visit func(config, tableValue) error) error {
	for _, p := range t.packages {
		if p.id != id>>24 {
			continue
		}
		for _, k := range p.kinds {
			if k.id != id>>16&0xff {
				continue
			}
			offset := k.find(id & 0xffff)
			if offset < 0 {
				continue
			}
			_, v, plain, err := k.entry(offset)
			if err == nil && plain {
				err = visit(k.config, v)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// text gives a resource as text, as for a device of no particular language.
func (t *table) text(id uint32) (string, error) {
	for range 8 { // references refer to references
		var best tableValue
		rank := 0
		err := t.lookUp(id, func(c config, v tableValue) error {
			if r := c.rank(); r > rank {
				best, rank = v, r
			}
			return nil
		})
		if err != nil || rank == 0 {
			return "", err
		}
		switch best.kind {
		case typeString:
			return t.values.get(best.data)
		case typeReference, typeDynamic:
			id = best.data
		default:
			return "", nil
		}
	}
	return "", nil
}

// picture gives the entry with the sharpest picture of a resource.
func (t *table) picture(id uint32, archive *zip.Reader) (string, error) {
	best, sharpest := "", -1
	for range 8 {
		next := uint32(0)
		err := t.lookUp(id, func(c config, v tableValue) error {
			switch v.kind {
			case typeReference, typeDynamic:
				next = v.data
			case typeString:
				file, err := t.values.get(v.data)
				if err != nil {
					return err
				}
				if kind := path.Ext(file); (kind == ".png" || kind == ".webp" || kind == ".jpg") &&
					c.density < 0xfff0 &&
					c.density > sharpest {
					best, sharpest = file, c.density
				}
			}
			return nil
		})
		if err != nil {
			return "", err
		}
		if next == 0 || best != "" {
			break
		}
		id = next
	}
	return findEntry(archive, best), nil
}

// drawing gives the entry with a resource's drawing in XML, "" where it has none.
func (t *table) drawing(id uint32, archive *zip.Reader) (string, error) {
	v, err := t.general(id)
	if err != nil || v.kind != typeString {
		return "", err
	}
	file, err := t.values.get(v.data)
	if err != nil || path.Ext(file) != ".xml" {
		return "", err
	}
	return findEntry(archive, file), nil
}

// general gives a resource's value for a device of no particular language, the one
// for the sharpest screens where there are several. References are followed.
func (t *table) general(id uint32) (tableValue, error) {
	for range 8 {
		var best tableValue
		rank, sharpest := 0, -1
		err := t.lookUp(id, func(c config, v tableValue) error {
			if r := c.rank(); r > rank || r == rank && c.density > sharpest {
				best, rank, sharpest = v, r, c.density
			}
			return nil
		})
		if err != nil || best.kind != typeReference && best.kind != typeDynamic {
			return best, err
		}
		id = best.data
	}
	return tableValue{}, nil
}

// textual tells which of a package's types are texts. Each name is read once,
// however many chunks there are of it.
func (p tablePackage) textual() (map[uint32]bool, error) {
	out, seen := map[uint32]bool{}, map[uint32]bool{}
	for _, k := range p.kinds {
		if seen[k.id] {
			continue
		}
		seen[k.id] = true
		name, err := p.types.get(k.id - 1)
		if err != nil {
			return nil, err
		}
		out[k.id] = name == "string"
	}
	return out, nil
}

// languages gives the languages that the table has texts in, beside those for all.
func (t *table) languages() ([]string, error) {
	seen := map[string]bool{}
	for _, p := range t.packages {
		textual, err := p.textual()
		if err != nil {
			return nil, err
		}
		for _, k := range p.kinds {
			if textual[k.id] && k.config.language != "" && k.count > 0 {
				seen[k.config.language] = true
			}
		}
	}
	return sorted(seen), nil
}

func sorted(set map[string]bool) []string {
	out := make([]string, 0, len(set))
	for s := range set {
		out = append(out, s)
	}
	slices.Sort(out)
	return out
}

// gathered are texts that are being gathered, with what was said of each key so far.
type gathered struct {
	texts   Texts
	ids     map[string]uint32 // the resource that has a key
	special map[string]bool   // by key and language: it is not for all devices
	n, size int
}

// key gives the key of a resource. Where packers have given many one name, what goes
// by a name that is taken goes by its number.
func (g *gathered) key(label string, id uint32) string {
	if has, ok := g.ids[label]; ok && has != id {
		label = fmt.Sprintf("0x%08x", id)
	}
	g.ids[label] = id
	return label
}

// add takes a text in, unless one for more devices is there.
func (g *gathered) add(key string, c config, text string) error {
	if g.n, g.size = g.n+1, g.size+len(key)+len(text); g.n > maxTexts || g.size > maxTextual {
		return refuse("", "%s holds more than %d texts or %d MB of them", tableEntry, maxTexts, maxTextual>>20)
	}
	if g.texts[key] == nil {
		g.texts[key] = map[string]string{}
	}
	at := key + "\x00" + c.language
	if _, there := g.texts[key][c.language]; there && (c.special || !g.special[at]) {
		return nil
	}
	g.texts[key][c.language], g.special[at] = strings.ToValidUTF8(text, "�"), c.special
	return nil
}

// texts gives the table's texts by key and language ("" for all).
func (t *table) texts() (Texts, error) {
	g := &gathered{Texts{}, map[string]uint32{}, map[string]bool{}, 0, 0}
	for _, p := range t.packages {
		textual, err := p.textual()
		if err != nil {
			return nil, err
		}
		for _, k := range p.kinds {
			if !textual[k.id] {
				continue
			}
			err = k.walk(func(number uint32, offset int64) error {
				key, v, plain, err := k.entry(offset)
				if err != nil || !plain || v.kind != typeString {
					return err
				}
				label, err := p.keys.get(key)
				if err != nil {
					return err
				}
				value, err := t.values.get(v.data)
				if err != nil {
					return err
				}
				return g.add(g.key(label, p.id<<24|k.id<<16|number&0xffff), k.config, value)
			})
			if err != nil {
				return nil, err
			}
		}
	}
	return g.texts, nil
}
