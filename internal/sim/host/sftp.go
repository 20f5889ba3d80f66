package host

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// files serves the machine's disk over SFTP, and nothing beside it: links that lead
// out of it are not followed. Who may only look reads what everybody may read.
type files struct {
	h    *Host
	root *os.Root
	look bool
}

// serveSFTP serves one login until it hangs up.
func (h *Host) serveSFTP(ch ssh.Channel, rights string) error {
	root, err := os.OpenRoot(h.Spec.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	f := &files{h, root, rights == "look"}
	s := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f})
	defer s.Close()
	if err := s.Serve(); !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}

// inside is a path below the root, as the root wants it.
func inside(p string) string {
	if p = strings.TrimPrefix(path.Clean("/"+p), "/"); p == "" {
		return "."
	}
	return p
}

// plain turns an error of the disk into one that names no path of the computer on
// which the machine is simulated.
func plain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return sftp.ErrSSHFxNoSuchFile
	case errors.Is(err, fs.ErrPermission):
		return sftp.ErrSSHFxPermissionDenied
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Fileread opens a file for reading.
func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	file, err := f.root.Open(inside(r.Filepath))
	if err != nil {
		return nil, plain(err)
	}
	if i, err := file.Stat(); err != nil || f.look && i.Mode().Perm()&0o004 == 0 {
		file.Close()
		return nil, errors.Join(plain(err), sftp.ErrSSHFxPermissionDenied)
	}
	return file, nil
}

// Filewrite takes a file, which is written whole when it is complete, so that a full
// disk is one here, too.
func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if f.look {
		return nil, sftp.ErrSSHFxPermissionDenied
	}
	w := &upload{f: f, to: inside(r.Filepath), mode: 0o644}
	if i, err := f.root.Stat(w.to); err == nil {
		w.mode = i.Mode().Perm()
	} else if _, err := f.root.Stat(path.Dir(w.to)); err != nil {
		return nil, plain(err)
	}
	return w, nil
}

// maxUpload is how large a file may be that somebody puts on a machine.
const maxUpload = 64 << 20

type upload struct {
	f    *files
	to   string
	mode fs.FileMode
	mu   sync.Mutex
	b    []byte
}

// WriteAt keeps a part.
func (u *upload) WriteAt(p []byte, at int64) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	end := at + int64(len(p))
	if end > maxUpload {
		return 0, errors.New("files of more than 64 MiB are not taken here")
	}
	if end > int64(len(u.b)) {
		u.b = append(u.b, make([]byte, end-int64(len(u.b)))...)
	}
	return copy(u.b[at:], p), nil
}

// Close writes the file.
func (u *upload) Close() error { return plain(u.f.h.WriteFile("/"+u.to, u.b, u.mode)) }

// Filecmd makes, moves and removes.
func (f *files) Filecmd(r *sftp.Request) error {
	if f.look {
		return sftp.ErrSSHFxPermissionDenied
	}
	at := inside(r.Filepath)
	switch r.Method {
	case "Setstat":
		if r.AttrFlags().Permissions {
			return plain(f.root.Chmod(at, r.Attributes().FileMode().Perm()))
		}
		return nil
	case "Rename", "PosixRename":
		return plain(f.root.Rename(at, inside(r.Target)))
	case "Rmdir", "Remove":
		return plain(f.root.Remove(at))
	case "Mkdir":
		return plain(f.root.Mkdir(at, 0o755))
	}
	return sftp.ErrSSHFxOpUnsupported
}

// Filelist lists a folder, or says what a file is.
func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	at := inside(r.Filepath)
	switch r.Method {
	case "List":
		d, err := f.root.Open(at)
		if err != nil {
			return nil, plain(err)
		}
		defer d.Close()
		is, err := d.Readdir(-1)
		return infos(is), plain(err)
	case "Stat", "Lstat":
		i, err := f.root.Stat(at)
		if err != nil {
			return nil, plain(err)
		}
		return infos{i}, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

type infos []fs.FileInfo

// ListAt hands out a part.
func (l infos) ListAt(out []fs.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[at:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
