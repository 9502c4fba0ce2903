package capture

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"passepartout/internal/machine"
)

// Recording says where frames are kept, and how many at most.
type Recording struct {
	Path        string // ends in .pcapng
	Interface   string
	Keep        string // the choice as it was written, kept in the file
	Snap        int    // octets of a frame at most
	Most        int64  // octets in all files together
	Files       int    // with more than one, the oldest goes when there is no more room; with one, the recording ends
	Application string
}

// Kept is what has become of a recording so far.
type Kept struct {
	Frames  int
	Octets  int64 // in the files that are there
	Dropped uint64
	Files   []string
	Began   time.Time
	Ended   time.Time
	Why     string // it ended: what was to be said about that
}

// ErrExists is given for a file that is there already: what somebody kept is not written over.
var ErrExists = errors.New("is there already: give another name")

// recorder writes the files of a recording.
type recorder struct {
	Recording
	kept   Kept
	number int
	file   *os.File
	buffer *bufio.Writer
	ng     *pcapgo.NgWriter
	size   int64 // of the present file
	before uint64
	frames uint64 // in the present file
	whole  int64  // octets of it that are written, up to the end of a frame
	known  int    // frames that were kept by then
}

// flushEvery is after how long at most a frame stands in its file.
const flushEvery = time.Second

// flushFrom is how many octets are written at once.
const flushFrom = 64 << 10

// heading is what a block of a frame takes besides the frame, at most (pcapng, enhanced packet block).
const heading = 36

// Record keeps what a port hears until ctx ends, there is no more room, or nothing more can be heard. now is told from time to time how far
// it is. What was kept by then stays, whatever ends it; the error says what does so before its time.
func Record(ctx context.Context, from machine.CaptureSocket, r Recording, now func(Kept)) (Kept, error) {
	w := &recorder{Recording: r, kept: Kept{Began: time.Now()}}
	if err := w.next(); err != nil {
		return w.kept, err
	}
	err := w.run(ctx, from, now)
	w.kept.Dropped = from.Dropped()
	if w.file != nil {
		if closed := w.close(); err == nil {
			err = closed
		}
	}
	w.kept.Ended = time.Now()
	w.sum()
	return w.kept, err
}

func (w *recorder) run(ctx context.Context, from machine.CaptureSocket, now func(Kept)) error {
	var c machine.Captured
	flushed := time.Now()
	for ctx.Err() == nil {
		came, err := from.Receive(&c)
		if err != nil {
			return fmt.Errorf("%s: %w", w.Interface, err)
		}
		if came {
			if more, err := w.take(&c); err != nil || !more {
				return err
			}
		}
		if time.Since(flushed) >= flushEvery {
			flushed = time.Now()
			if err := w.flush(); err != nil {
				return w.unwritten(err)
			}
			w.kept.Dropped = from.Dropped()
			w.sum()
			now(w.kept)
		}
	}
	return nil
}

// take keeps a frame. It is false when there is no more room.
func (w *recorder) take(c *machine.Captured) (more bool, err error) {
	data := c.Data[:min(len(c.Data), w.Snap)]
	needs := int64(len(data) + heading + 4)
	if each := w.Most / int64(max(w.Files, 1)); w.size+needs > each {
		if w.Files <= 1 {
			w.kept.Why = fmt.Sprintf("the limit of %d MB is reached", w.Most/1_000_000)
			return false, nil
		}
		if err := w.next(); err != nil {
			return false, err
		}
	}
	info := gopacket.CaptureInfo{Timestamp: c.At, CaptureLength: len(data), Length: max(c.Length, len(data))}
	if err := w.ng.WritePacket(info, data); err != nil {
		return false, w.unwritten(err)
	}
	w.size += needs
	w.kept.Frames++
	w.frames++
	if w.size-w.whole > flushFrom { // in whole frames, so that a disk that fills leaves whole ones
		if err := w.flush(); err != nil {
			return false, w.unwritten(err)
		}
	}
	return true, nil
}

// name gives the name of the present file: with several, they are numbered.
func (w *recorder) name() string {
	if w.Files <= 1 {
		return w.Path
	}
	ending := filepath.Ext(w.Path)
	return fmt.Sprintf("%s-%03d%s", strings.TrimSuffix(w.Path, ending), w.number, ending)
}

// next closes the present file, if there is one, begins another, and removes the oldest of too many.
func (w *recorder) next() error {
	if w.file != nil {
		if err := w.close(); err != nil {
			return err
		}
	}
	w.number++
	path := w.name()
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600) // what passes on a network is nobody else's business
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s %w", path, ErrExists)
	}
	if err != nil {
		return w.unwritten(err)
	}
	w.file, w.buffer = file, bufio.NewWriterSize(file, 1<<18)
	w.kept.Files = append(w.kept.Files, path)
	for w.Files > 1 && len(w.kept.Files) > w.Files {
		if err := os.Remove(w.kept.Files[0]); err != nil {
			return w.unwritten(err)
		}
		w.kept.Files = w.kept.Files[1:]
	}
	w.ng, err = pcapgo.NewNgWriterInterface(w.buffer, pcapgo.NgInterface{Name: w.Interface, Filter: w.Keep,
		LinkType:   layers.LinkTypeEthernet,
		SnapLength: uint32(w.Snap), TimestampResolution: 9},
		pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{Application: w.Application}})
	if err != nil {
		return w.unwritten(err)
	}
	w.size, w.frames, w.whole, w.known = 512, 0, 0, w.kept.Frames
	return nil
}

func (w *recorder) flush() error {
	if err := w.ng.Flush(); err != nil {
		return err
	}
	if err := w.buffer.Flush(); err != nil {
		return err
	}
	at, err := w.file.Seek(0, io.SeekCurrent)
	w.whole, w.size, w.known = at, at, w.kept.Frames
	return err
}

// close ends the present file, with what was counted while it was written.
func (w *recorder) close() error {
	dropped := w.kept.Dropped - w.before
	w.before = w.kept.Dropped
	err := w.ng.WriteInterfaceStats(0, pcapgo.NgInterfaceStatistics{LastUpdate: time.Now(), StartTime: w.kept.Began, EndTime: time.Now(),
		PacketsReceived: w.frames + dropped, PacketsDropped: dropped})
	if err == nil {
		err = w.flush()
	}
	if err != nil {
		return w.unwritten(err)
	}
	err = w.file.Close()
	w.file = nil
	return err
}

// sum looks how large the files are.
func (w *recorder) sum() {
	w.kept.Octets = 0
	for _, path := range w.kept.Files {
		if info, err := os.Stat(path); err == nil {
			w.kept.Octets += info.Size()
		}
	}
}

// unwritten says that a file could not be written any further. It is closed, at the end of a frame.
func (w *recorder) unwritten(err error) error {
	if w.file != nil {
		_ = w.file.Truncate(w.whole)
		_ = w.file.Close()
		w.file, w.kept.Frames = nil, w.known
	}
	if errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%s: the disk is full; what was kept before is there", w.name())
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err // the name stands here already
	}
	return fmt.Errorf("%s could not be written: %w", w.name(), err)
}
