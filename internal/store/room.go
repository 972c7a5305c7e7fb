package store

import (
	"context"
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"stonebaton.example/internal/rows"
)

// RoomError says that too little space is free where the records are for a new run to begin.
type RoomError struct {
	Dir         string
	Free, Least int64 // bytes
}

func (e *RoomError) Error() string {
	return fmt.Sprintf("only %d MB are free where the records are (%s), and no new run begins below %d MB", e.Free>>20, e.Dir, e.Least>>20)
}

// Room says whether so many bytes are free where the records are: nil, or a RoomError.
func (s *Store) Room(least int64) error {
	var st unix.Statfs_t
	if err := unix.Statfs(s.dir, &st); err != nil {
		return fmt.Errorf("it cannot be told how much space is free: %w", err)
	}
	if free := int64(st.Bavail) * int64(st.Bsize); free < least {
		return &RoomError{Dir: s.dir, Free: free, Least: least}
	}
	return nil
}

var stillWrites = statement(`INSERT INTO ready (one, at) VALUES (1, :at) ON CONFLICT DO UPDATE SET at = excluded.at`)

// Ready says whether the store can write: it writes a file and a row, and waits until both are
// on disk.
func (s *Store) Ready(ctx context.Context) error {
	if err := s.blobs.writable(); err != nil {
		return err
	}
	return s.write.do(ctx, func(t *tx) error { return t.do(stillWrites, named{"at": rows.Moment{Time: time.Now()}}) })
}
