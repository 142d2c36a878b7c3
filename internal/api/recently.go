package api

import (
	"sync"
	"time"
)

// recently knows what was done within the last minute.
type recently struct {
	mu    sync.Mutex
	at    map[string]time.Time
	swept time.Time
}

// again says whether something was done within the last minute, and notes that it is done now.
func (r *recently) again(what string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	if r.at == nil || now.Sub(r.swept) > noteEvery || len(r.at) > 100_000 {
		fresh := map[string]time.Time{}
		for k, at := range r.at {
			if now.Sub(at) < noteEvery && len(fresh) < 50_000 {
				fresh[k] = at
			}
		}
		r.at, r.swept = fresh, now
	}
	if at, ok := r.at[what]; ok && now.Sub(at) < noteEvery {
		return true
	}
	r.at[what] = now
	return false
}
