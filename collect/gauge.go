package collect

import (
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"unsafe"
)

// gauge counts what is in memory only, in a file that is mapped into memory: it
// is right also after the program was killed, at no cost while it runs.
type gauge struct {
	cells *[4]atomic.Int64
	raw   []byte
}

const (
	gaugePackets = iota // in the workers' queues, in records as the packets before them had
	gaugeDecoded        // records on the way to the joiner
	gaugeJoined         // sessions that wait, and records that are not in the spool
)

const gaugeSize = 32

func openGauge(folder string) (g *gauge, was int64, err error) {
	f, err := os.OpenFile(filepath.Join(folder, "gauge"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	// else a full disk would be a fault of memory
	if err := syscall.Fallocate(int(f.Fd()), 0, 0, gaugeSize); err != nil {
		return nil, 0, err
	}
	raw, err := syscall.Mmap(int(f.Fd()), 0, gaugeSize, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		return nil, 0, err
	}
	g = &gauge{(*[4]atomic.Int64)(unsafe.Pointer(&raw[0])), raw}
	for i := range g.cells {
		was += max(0, g.cells[i].Swap(0))
	}
	return g, was, nil
}

func (g *gauge) add(cell int, n int64) { g.cells[cell].Add(n) }

func (g *gauge) set(cell int, n int64) { g.cells[cell].Store(n) }

func (g *gauge) sum() (n int64) {
	for i := range g.cells {
		n += max(0, g.cells[i].Load())
	}
	return n
}

func (g *gauge) close() { _ = syscall.Munmap(g.raw) }
