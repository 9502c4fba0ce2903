package linux

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
	"passepartout/internal/plainfile"
)

// Where managers keep what they set.
const (
	interfacesFile = "/etc/network/interfaces"
	moreInterfaces = "/etc/network/interfaces.d"
	profiles       = "/etc/NetworkManager/system-connections"
	matchedFiles   = "/etc/systemd/network"
	besideMatched  = "90-passepartout.conf"
)

// tellStored reads what managers keep of the interfaces, as far as this process may.
func tellStored(e *endpoint.Endpoint) {
	texts := map[string]string{} // each file is read once, however many interfaces there are
	read := func(path string) string {
		text, known := texts[path]
		if !known {
			raw, _ := plainfile.Read(path, mostSettings)
			text = string(raw)
			texts[path] = text
		}
		return text
	}
	stanzas, _ := filepath.Glob(moreInterfaces + "/*")
	stanzas = append(stanzas, interfacesFile)
	for _, i := range e.Interfaces {
		x := endpoint.Stored{Interface: i.Name, Manager: i.Manager}
		switch i.Manager {
		case lease.NetworkManager:
			uuid := valueIn(fmt.Sprintf("/run/NetworkManager/devices/%d", i.Index), "connection-uuid")
			files, _ := filepath.Glob(profiles + "/*.nmconnection")
			for _, path := range files {
				if uuid != "" && valueIn(path, "uuid") == uuid || uuid == "" && valueIn(path, "interface-name") == i.Name {
					x.Path = path
				}
			}
		case lease.Networkd:
			if matched := valueIn(fmt.Sprintf("/run/systemd/netif/links/%d", i.Index), "NETWORK_FILE"); matched != "" {
				x.Path = filepath.Join(matchedFiles, filepath.Base(matched)+".d", besideMatched)
			}
		case "", lease.Dhclient, endpoint.Ifupdown: // it has a client of DHCP run, and leaves no other mark of a fixed address
			x.Manager = endpoint.Ifupdown
			for _, path := range stanzas {
				if _, _, ok := change.PartOf(x.Manager, i.Name, read(path)); ok {
					x.Path = path
				}
			}
		}
		if x.Path == "" {
			continue
		}
		text := read(x.Path)
		if from, to, ok := change.PartOf(x.Manager, i.Name, text); ok {
			x.Part = text[from:to]
			e.Stored = append(e.Stored, x)
		}
	}
}

// valueIn finds a value in a file of lines of names and values; "" if it is not there.
func valueIn(path, name string) string {
	text, _ := plainfile.Read(path, mostSettings)
	for line := range strings.Lines(string(text)) {
		if is, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok && is == name {
			return value
		}
	}
	return ""
}

// ifupFor is how long ifupdown may take to set an interface: a client of DHCP waits a minute for a server.
const ifupFor = 75 * time.Second

// store puts a part into a manager's file, and has him read it.
func store(ctx context.Context, o change.Op) error {
	up := o.Name == endpoint.Ifupdown && there("/run/network/ifstate."+filepath.Base(o.Interface))
	if up { // by what the file says now: it knows what it has begun
		if err := program(ctx, "ifdown", "--force", o.Interface); err != nil {
			return fmt.Errorf("%v: %w", o, err)
		}
	}
	switch {
	case o.Text == "":
		if err := os.Remove(o.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return refused(o, err)
		}
		_ = os.Remove(filepath.Dir(o.Path)) // it stays if somebody else has something there
	default:
		if o.Name == lease.Networkd {
			if err := os.MkdirAll(filepath.Dir(o.Path), 0o755); err != nil {
				return refused(o, err)
			}
		}
		err := rewrite(o.Path, func(was string) string { return change.WithPart(o.Name, o.Interface, was, o.Text) })
		if err != nil {
			return fmt.Errorf("%v: %w", o, err)
		}
	}
	during := askFor
	if up {
		during = ifupFor
	}
	ctx, cancel := context.WithTimeout(ctx, during)
	defer cancel()
	var err error
	switch o.Name {
	case endpoint.Ifupdown:
		if up {
			err = program(ctx, "ifup", "--force", o.Interface)
		}
	case lease.Networkd:
		err = onBus(ctx, func(bus *dbus.Conn) error { return reread(ctx, bus, o.Interface) })
	case lease.NetworkManager:
		err = onBus(ctx, func(bus *dbus.Conn) error { return reapply(ctx, bus, o.Interface, o.Path) })
	}
	if err != nil {
		return fmt.Errorf("%v: it is in the file, and was not read: %w", o, err)
	}
	return nil
}

// reread has systemd-networkd read its files, and set an interface anew.
func reread(ctx context.Context, bus *dbus.Conn, iface string) error {
	i, err := net.InterfaceByName(iface)
	if err != nil {
		return err
	}
	manager := bus.Object(networkd, "/org/freedesktop/network1")
	if err := manager.CallWithContext(ctx, networkd+".Manager.Reload", 0).Err; err != nil {
		return err
	}
	return manager.CallWithContext(ctx, networkd+".Manager.ReconfigureLink", 0, int32(i.Index)).Err
}

// reapply has NetworkManager read a profile, and set the interface by it.
func reapply(ctx context.Context, bus *dbus.Conn, iface, path string) error {
	var read bool
	var failed []string
	settings := bus.Object(networkManager, "/org/freedesktop/NetworkManager/Settings")
	loaded := settings.CallWithContext(ctx, networkManager+".Settings.LoadConnections", 0, []string{path})
	if err := loaded.Store(&read, &failed); err != nil {
		return err
	}
	if !read || len(failed) > 0 {
		return fmt.Errorf("NetworkManager does not take %s", path)
	}
	return askNetworkManager(ctx, bus, iface, false)
}
