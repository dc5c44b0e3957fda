package collect

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// own makes sure that no other collector uses the folder; the lock ends with
// the program, however it ends.
func (s *spool) own() error {
	f, err := os.OpenFile(filepath.Join(s.folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return fmt.Errorf("another collector uses %s: %w", s.folder, err)
	}
	s.lock = f
	return nil
}
