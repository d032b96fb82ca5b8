// Package memo remembers what is expensive to make and never changes. Each thing is made
// once, however many ask for it at the same time; of many things, those asked for last are
// kept.
//
//	systems := memo.Cache[string, system]{Most: 8}
//	s, err := systems.Get(digest, func() (system, error) { return lookInto(version) })
package memo

import (
	"fmt"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"
)

// Cache is safe for use by several goroutines. Most is set before the first Get.
type Cache[K comparable, V any] struct {
	Most int // how many things are kept

	once   sync.Once
	kept   *lru.Cache[K, V]
	making singleflight.Group
}

// Get returns what is remembered under a key, or has it made. What cannot be made is not
// remembered.
func (c *Cache[K, V]) Get(key K, make func() (V, error)) (V, error) {
	c.once.Do(func() {
		kept, err := lru.New[K, V](max(c.Most, 1))
		if err != nil {
			panic(err) // it is of less than one
		}
		c.kept = kept
	})
	if v, known := c.kept.Get(key); known {
		return v, nil
	}
	v, err, _ := c.making.Do(fmt.Sprint(key), func() (any, error) {
		if v, known := c.kept.Get(key); known {
			return v, nil
		}
		v, err := make()
		if err == nil {
			c.kept.Add(key, v)
		}
		return v, err
	})
	if v == nil {
		var none V
		return none, err
	}
	return v.(V), err
}
