package privilege

import (
	"fmt"
	"os"

	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
	"kernel.org/pub/linux/libs/security/libcap/cap"
)

// Drop keeps what is named of what this process has, and gives up all else for good, in all its threads. folders are further ones in which
// it may write. A kernel without Landlock confines no files; that is no error.
func Drop(k Keep, folders ...string) error {
	if _, err := cap.Prctlw(unix.PR_SET_NO_NEW_PRIVS, 1); err != nil {
		return fmt.Errorf("giving up new privileges: %w", err)
	}
	if !k.Owners { // a confined process may not look at those that are not (landlock(7), ptrace restrictions)
		if err := confine(k, folders); err != nil {
			return fmt.Errorf("confining files: %w", err)
		}
	}
	if err := narrow(k); err != nil {
		return fmt.Errorf("giving up capabilities: %w", err)
	}
	return nil
}

// MayChange reports whether this process may change interfaces, addresses and routes.
func MayChange() bool {
	may, err := cap.GetProc().GetFlag(cap.Effective, cap.NET_ADMIN)
	return err == nil && may
}

// narrow leaves of the capabilities those that are needed (capabilities(7)).
func narrow(k Keep) error {
	var needed []cap.Value
	if k.Frames {
		needed = append(needed, cap.NET_RAW)
	}
	if k.Read {
		needed = append(needed, cap.DAC_READ_SEARCH)
	}
	if k.Owners {
		needed = append(needed, cap.SYS_PTRACE)
	}
	if k.Change {
		// A client of DHCP that ifupdown begins has a port of the system's; dhcpcd is told by a signal, and is a user of its own.
		needed = append(needed, cap.NET_ADMIN, cap.NET_BIND_SERVICE, cap.KILL)
	}
	if k.Write { // under sudo, a user's own folder is somebody else's
		needed = append(needed, cap.DAC_OVERRIDE)
	}
	has, left := cap.GetProc(), cap.NewSet()
	for _, v := range needed {
		if ok, err := has.GetFlag(cap.Permitted, v); err != nil || !ok {
			continue
		}
		for _, f := range []cap.Flag{cap.Permitted, cap.Effective} {
			if err := left.SetFlag(f, true, v); err != nil {
				return err
			}
		}
	}
	return left.SetProc()
}

// confine leaves of the file system what is needed (landlock(7)).
func confine(k Keep, folders []string) error {
	if !k.Read && !k.Write { // no file, and no connection either
		return landlock.V5.BestEffort().Restrict()
	}
	rules := []landlock.Rule{landlock.RODirs("/"), landlock.RWFiles("/dev/null", "/dev/tty").WithIoctlDev().IgnoreIfMissing()}
	if k.Write {
		for _, folder := range writable("/", folders) {
			if info, err := os.Stat(folder); err == nil && info.IsDir() {
				rules = append(rules, landlock.RWDirs(folder).IgnoreIfMissing())
			}
		}
	}
	return landlock.V5.BestEffort().RestrictPaths(rules...)
}
