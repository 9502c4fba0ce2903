package linux

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"strconv"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/sockets"
	"passepartout/internal/core/wiretext"
)

// readOwners looks at the files that every process has open (proc(5), /proc/PID/fd). A process that ends meanwhile has none. Where several
// have the same socket, it is that of the first: the one that opened it, as a rule.
func readOwners(ctx context.Context) *sockets.Owners {
	out := &sockets.Owners{Of: map[uint64]int32{}}
	names, err := readNames("/proc")
	if err != nil {
		return out
	}
	link := make([]byte, 64)
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		if ctx.Err() != nil {
			return out
		}
		folder, err := os.Open("/proc/" + name + "/fd")
		if err != nil {
			if errors.Is(err, fs.ErrPermission) {
				out.Refused++
			}
			continue
		}
		files, err := folder.Readdirnames(-1)
		refused := errors.Is(err, fs.ErrPermission)
		at := int32(-1)
		for _, file := range files {
			n, err := unix.Readlinkat(int(folder.Fd()), file, link)
			if err != nil {
				refused = refused || errors.Is(err, fs.ErrPermission)
				continue
			}
			inode, ok := socketInode(link[:n])
			if !ok {
				continue
			}
			if at < 0 {
				at = int32(len(out.Programs))
				out.Programs = append(out.Programs, ownerOf(pid))
			}
			if _, known := out.Of[inode]; !known {
				out.Of[inode] = at
			}
		}
		folder.Close()
		if refused {
			out.Refused++
		}
	}
	return out
}

func readNames(folder string) ([]string, error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// socketInode reads "socket:[123]".
func socketInode(link []byte) (uint64, bool) {
	rest, ok := bytes.CutPrefix(link, []byte("socket:["))
	if !ok || len(rest) < 2 || rest[len(rest)-1] != ']' {
		return 0, false
	}
	n := uint64(0)
	for _, c := range rest[:len(rest)-1] {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + uint64(c-'0')
	}
	return n, true
}

// ownerOf reads what a process is called, which it may have chosen to be anything.
func ownerOf(pid int) sockets.Program {
	p := sockets.Program{PID: pid, Name: wiretext.Clean(programOf(pid))}
	var stat unix.Stat_t
	if unix.Stat("/proc/"+strconv.Itoa(pid), &stat) == nil {
		p.User = stat.Uid
	}
	return p
}
