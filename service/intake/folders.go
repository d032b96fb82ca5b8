package intake

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/records"
)

// Folders that go back onto a new system are kept as the agent has packed them: a tar archive, compressed by zstd, in the folder
// "folders" of the data folder.

// foldersOf is the file of an errand's folders.
func (k *Intake) foldersOf(errand int64) string {
	return filepath.Join(k.Dir, "folders", fmt.Sprintf("errand-%d.tar.zst", errand))
}

// roomEvery is after how many bytes of folders it is asked whether there is room for more.
const roomEvery = 16 << 20

// PutFolders keeps the folders of a disk that is to be erased.
func (k *Intake) PutFolders(ctx context.Context, u *Upload, content io.Reader) error {
	if !u.folders {
		return fault.Conflict.Errorf("nobody has asked for folders of this disk")
	}
	path := k.foldersOf(u.errand.ID)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := durable.Create(path, 0o600)
	if err != nil {
		return err
	}
	defer f.Drop()
	w, err := k.Records.Workstation(ctx, u.errand.WorkstationID)
	if err != nil {
		return err
	}
	most := int64(roomEvery)
	for _, size := range w.Disks() {
		most += size
	}
	h := blake3.New()
	kept := records.Folders{ErrandID: u.errand.ID, WorkstationID: u.errand.WorkstationID, Expires: k.until(u)}
	for {
		if err := k.Room(); err != nil {
			return err
		}
		n, err := io.CopyN(io.MultiWriter(f, h), content, roomEvery)
		if kept.Bytes += n; errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return fault.CutOff.Errorf("the folders were cut off")
		}
		if kept.Bytes > most {
			return fault.TooLarge.Errorf("the folders have more bytes than the disks of %s", w.Label())
		}
	}
	if err := f.Keep(); err != nil {
		return err
	}
	kept.Digest = hex.EncodeToString(h.Sum(nil))
	return k.Records.PutFolders(ctx, kept)
}

// mustHaveFolders refuses a capture that was to hand in folders and has not, before anything is erased.
func (k *Intake) mustHaveFolders(ctx context.Context, u *Upload) error {
	if !u.folders {
		return nil
	}
	_, err := k.Records.FoldersOf(ctx, u.errand.ID)
	if errors.Is(err, fault.NotFound) {
		return fault.Conflict.Errorf("the folders that are to go back did not come; make a build with the agent of this service: jugate environment build --offer")
	}
	return err
}

// OpenFolders opens the folders that an errand has handed in.
func (k *Intake) OpenFolders(errand int64) (*os.File, error) { return os.Open(k.foldersOf(errand)) }

// expireFolders removes folders whose time is over.
func (k *Intake) expireFolders(ctx context.Context) error {
	over, err := k.Records.ExpiredFolders(ctx, k.Now())
	for _, f := range over {
		if err == nil {
			err = os.Remove(k.foldersOf(f.ErrandID))
		}
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			err = k.Records.ForgetFolders(ctx, f.ErrandID)
		}
	}
	return err
}
