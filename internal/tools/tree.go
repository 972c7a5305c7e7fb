package tools

import (
	"io/fs"
	"os"
)

// Stamp tells whether a file has changed.
type Stamp struct {
	Size, At int64
	Mode     fs.FileMode
}

// Tree gives the regular files of a folder by their paths; over says that there is more than
// most in it. Links are not among them, since they lead where they like.
func Tree(root *os.Root, most int) (files map[string]Stamp, over bool) {
	files = map[string]Stamp{}
	seen := 0
	err := fs.WalkDir(root.FS(), ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read is not there for a tool
		}
		if seen++; seen > most+1 {
			return fs.SkipAll
		}
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() {
			files[p] = Stamp{info.Size(), info.ModTime().UnixNano(), info.Mode().Perm()}
		}
		return nil
	})
	return files, err != nil || seen > most+1
}
