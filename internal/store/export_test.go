package store

import "context"

// Index takes some runs into the index of words, and says how many.
func (s *Store) Index(ctx context.Context) (int, error) { return s.index(ctx) }
