package backup

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
)

// folderMark stands in a folder of backups and says which it is; knownFile has, in the data directory, the folders
// into which backups were made: one whose mark is not there any more is a folder whose disk is away.
const (
	folderMark = "folder.json"
	knownFile  = "backup-folders.json"
)

type mark struct {
	Folder string `json:"folder"`
	Says   string `json:"says"`
}

func markOf(folder string) (string, error) {
	b, err := readAtMost(filepath.Join(folder, folderMark), 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	var m mark
	return m.Folder, json.Unmarshal(b, &m)
}

// known gives the folders into which backups were made, with their marks.
func (in *Making) known() (map[string]string, error) {
	out := map[string]string{}
	b, err := readAtMost(filepath.Join(in.Data, knownFile), 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(b, &out)
}

// there refuses a folder that is not the one into which backups were made under its name. The error has the code
// backup-folder-away.
func (in *Making) there() error {
	folder, err := filepath.Abs(in.Folder)
	if err != nil {
		return err
	}
	known, err := in.known()
	if err != nil {
		return err
	}
	is, err := markOf(folder)
	if err != nil || known[folder] == "" || is == known[folder] || in.NewFolder {
		return err
	}
	says := "its mark is missing"
	if is != "" {
		says = "another folder of backups is in its place"
	}
	return fault.New(fault.Unavailable, "backup-folder-away", "the folder %s, into which backups were made, is away: %s",
		folder, says).In("folder").Do("mount its disk; when it is gone for good, say --new-folder: backups begin anew there")
}

// markFolder marks the folder, unless it is, and keeps in mind which it is. A data directory that takes no writes keeps
// nothing in mind, and stops no backup.
func (in *Making) markFolder() error {
	folder, err := filepath.Abs(in.Folder)
	if err != nil {
		return err
	}
	is, err := markOf(folder)
	if err == nil && is == "" {
		is = bodies.NewMarker()
		var b []byte
		if b, err = json.Marshal(mark{is, "This is a folder of backups of Spindle. Keep this file with it."}); err == nil {
			err = writeLast(filepath.Join(folder, folderMark), b)
		}
	}
	if err != nil {
		return folderFault(folder, err)
	}
	known, err := in.known()
	if err != nil || known[folder] == is {
		return err
	}
	known[folder] = is
	b, err := json.MarshalIndent(known, "", "  ")
	if err == nil {
		err = writeLast(filepath.Join(in.Data, knownFile), b)
	}
	if errors.Is(err, unix.EROFS) {
		in.Log.Warn("the folder of backups is not kept in mind", "error", err)
		return nil
	}
	return err
}
