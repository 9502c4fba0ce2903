package linux

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os/exec"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"passepartout/internal/core/change"
	"passepartout/internal/core/lease"
)

// The public interfaces of managers on the system's message bus.
const (
	networkManager = "org.freedesktop.NetworkManager"
	networkd       = "org.freedesktop.network1"
)

// askFor is how long a manager may take to answer that it has understood.
const askFor = 10 * time.Second

// askClient has the client of DHCP that manages an interface renew its lease or give it back, by the way that its manual names.
func askClient(ctx context.Context, o change.Op) error {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	var err error
	switch release := o.Do == change.ReleaseLease; o.Name {
	case lease.Dhcpcd:
		word := "--rebind"
		if release {
			word = "--release"
		}
		err = program(ctx, "dhcpcd", word, o.Interface)
	case lease.NetworkManager:
		err = onBus(ctx, func(bus *dbus.Conn) error { return askNetworkManager(ctx, bus, o.Interface, release) })
	case lease.Networkd:
		if release {
			return fmt.Errorf("%v: systemd-networkd has no word for that; networkctl down %s has it do so", o, o.Interface)
		}
		err = onBus(ctx, func(bus *dbus.Conn) error { return askNetworkd(ctx, bus, o.Interface) })
	default:
		err = errors.New("it takes no word while it runs")
	}
	if err != nil {
		return fmt.Errorf("%v: %w", o, err)
	}
	return nil
}

// program runs one; what it says is the error.
func program(ctx context.Context, name string, args ...string) error {
	path, err := exec.LookPath(name)
	if err != nil {
		if path, err = exec.LookPath("/usr/sbin/" + name); err != nil {
			return fmt.Errorf("the program %s is not installed", name)
		}
	}
	out, err := exec.CommandContext(ctx, path, args...).CombinedOutput()
	if err != nil {
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		return fmt.Errorf("%w: %s", err, lines[len(lines)-1])
	}
	return nil
}

func onBus(ctx context.Context, do func(*dbus.Conn) error) error {
	bus, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return fmt.Errorf("the system's message bus: %w", err)
	}
	defer bus.Close()
	return do(bus)
}

func askNetworkd(ctx context.Context, bus *dbus.Conn, iface string) error {
	i, err := net.InterfaceByName(iface)
	if err != nil {
		return err
	}
	return bus.Object(networkd, "/org/freedesktop/network1").CallWithContext(ctx, networkd+".Manager.RenewLink", 0, int32(i.Index)).Err
}

// askNetworkManager has the interface's own connection begun anew, or ended.
func askNetworkManager(ctx context.Context, bus *dbus.Conn, iface string, release bool) error {
	manager := bus.Object(networkManager, "/org/freedesktop/NetworkManager")
	var device dbus.ObjectPath
	if err := manager.CallWithContext(ctx, networkManager+".GetDeviceByIpIface", 0, iface).Store(&device); err != nil {
		return err
	}
	if release {
		return bus.Object(networkManager, device).CallWithContext(ctx, networkManager+".Device.Disconnect", 0).Err
	}
	var active, connection dbus.ObjectPath
	if err := bus.Object(networkManager, device).StoreProperty(networkManager+".Device.ActiveConnection", &active); err != nil {
		return err
	}
	if active == "/" {
		return fmt.Errorf("no connection of its is active on %s", iface)
	}
	if err := bus.Object(networkManager, active).StoreProperty(networkManager+".Connection.Active.Connection", &connection); err != nil {
		return err
	}
	return manager.CallWithContext(ctx, networkManager+".ActivateConnection", 0, connection, device, dbus.ObjectPath("/")).Err
}
