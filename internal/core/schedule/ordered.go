package schedule

import (
	"container/heap"
	"maps"
	"slices"
)

// ordered is a set of keys by id that knows its first. Removal is lazy: a dead
// key stays in the heap until it comes to the top, or until the dead outnumber
// the living.
type ordered[K comparable] struct {
	keys    keyHeap[K]
	present map[int64]K
	ids     map[K]int64
}

func newOrdered[K comparable](compare func(a, b K) int) *ordered[K] {
	return &ordered[K]{keyHeap[K]{compare: compare}, map[int64]K{}, map[K]int64{}}
}

func (o *ordered[K]) copy() *ordered[K] {
	return &ordered[K]{keyHeap[K]{slices.Clone(o.keys.list), o.keys.compare}, maps.Clone(o.present), maps.Clone(o.ids)}
}

func (o *ordered[K]) size() int { return len(o.present) }

func (o *ordered[K]) add(id int64, k K) {
	o.present[id] = k
	o.ids[k] = id
	heap.Push(&o.keys, k)
}

func (o *ordered[K]) remove(id int64) {
	k, ok := o.present[id]
	if !ok {
		return
	}
	delete(o.present, id)
	delete(o.ids, k)
	if len(o.keys.list) > 16 && len(o.keys.list) > 2*len(o.present) {
		o.keys.list = o.keys.list[:0]
		for _, k := range o.present {
			o.keys.list = append(o.keys.list, k)
		}
		heap.Init(&o.keys)
	}
}

func (o *ordered[K]) first() (K, bool) {
	for len(o.keys.list) > 0 {
		k := o.keys.list[0]
		if _, ok := o.ids[k]; ok {
			return k, true
		}
		heap.Pop(&o.keys)
	}
	var none K
	return none, false
}

// firstWhere is the first key that ok takes. It looks at all of them only where
// the very first is refused.
func (o *ordered[K]) firstWhere(ok func(K) bool) (K, bool) {
	k, found := o.first()
	if !found || ok(k) {
		return k, found
	}
	found = false
	for _, c := range o.present {
		if ok(c) && (!found || o.keys.compare(c, k) < 0) {
			k, found = c, true
		}
	}
	return k, found
}

type keyHeap[K any] struct {
	list    []K
	compare func(a, b K) int
}

func (h *keyHeap[K]) Len() int           { return len(h.list) }
func (h *keyHeap[K]) Less(i, j int) bool { return h.compare(h.list[i], h.list[j]) < 0 }
func (h *keyHeap[K]) Swap(i, j int)      { h.list[i], h.list[j] = h.list[j], h.list[i] }
func (h *keyHeap[K]) Push(x any)         { h.list = append(h.list, x.(K)) }
func (h *keyHeap[K]) Pop() any {
	last := h.list[len(h.list)-1]
	h.list = h.list[:len(h.list)-1]
	return last
}
