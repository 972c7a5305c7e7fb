package sqlite

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Lost says what of a database's write-ahead log was deleted, cut or damaged since a program
// that had it open was killed; "" where nothing was, or where it cannot be told. SQLite itself
// goes on with what is left, and says nothing. It is asked before the database is opened.
//
// The index of the log, which is beside it in shared memory that is a file, says how many
// frames were committed. So a log with fewer has lost some. Both formats are described at
// https://sqlite.org/walformat.html. After a loss of power the index may be older than the log,
// never newer; then nothing is noticed.
func Lost(file string) string {
	index, err := os.ReadFile(file + "-shm")
	if err != nil || len(index) < 100 {
		return ""
	}
	// The header of the index stands there twice; it is whole where both are the same.
	if string(index[:48]) != string(index[48:96]) || index[12] != 1 {
		return ""
	}
	frames, copied := binary.NativeEndian.Uint32(index[16:]), binary.NativeEndian.Uint32(index[96:])
	if frames <= copied { // the database has them all
		return ""
	}
	log, err := os.ReadFile(file + "-wal")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("the file %s-wal is gone: what was recorded last, in %d pages, is lost", file, frames-copied)
	case err != nil:
		return fmt.Sprintf("the file %s-wal cannot be read: %v", file, err)
	}
	if whole := max(valid(log, index[32:40]), copied); whole < frames {
		return fmt.Sprintf("the file %s-wal is cut or damaged: of %d pages that were recorded last, %d are lost", file, frames-copied, frames-whole)
	}
	return ""
}

// valid counts the frames of a log that are whole, from its beginning on. Salt is that of the
// index; a log of another was begun anew.
func valid(log, salt []byte) uint32 {
	const head, frameHead = 32, 24
	if len(log) < head {
		return 0
	}
	var order binary.ByteOrder = binary.LittleEndian
	if binary.BigEndian.Uint32(log)&1 == 1 {
		order = binary.BigEndian
	}
	size := int(binary.BigEndian.Uint32(log[8:]))
	if size < 512 || size > 65536 || string(log[16:24]) != string(salt) {
		return 0
	}
	var a, b uint32
	sum := func(p []byte) {
		for i := 0; i+8 <= len(p); i += 8 {
			a += order.Uint32(p[i:]) + b
			b += order.Uint32(p[i+4:]) + a
		}
	}
	sum(log[:24])
	n := uint32(0)
	for at := head; at+frameHead+size <= len(log); at += frameHead + size {
		f := log[at:]
		if string(f[8:16]) != string(salt) {
			break
		}
		sum(f[:8])
		sum(f[frameHead : frameHead+size])
		if binary.BigEndian.Uint32(f[16:]) != a || binary.BigEndian.Uint32(f[20:]) != b {
			break
		}
		n++
	}
	return n
}
