package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wiretext"
)

// NearestBridge is the group address to which LLDP is sent (IEEE 802.1AB §7.1); bridges do not pass it on, so that what is heard is the
// other end of the cable.
var NearestBridge = endpoint.HardwareAddr{0x01, 0x80, 0xc2, 0, 0, 0x0e}

// ParseLLDP reads what a device at the other end of the cable says of itself; false for any other frame, and for one that breaks the
// protocol.
func ParseLLDP(frame []byte) (s evidence.Switch, ok bool) {
	if len(frame) < 14 || layers.EthernetType(binary.BigEndian.Uint16(frame[12:])) != layers.EthernetTypeLinkLayerDiscovery {
		return s, false
	}
	p := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.DecodeOptions{NoCopy: true})
	lldp, is := p.Layer(layers.LayerTypeLinkLayerDiscovery).(*layers.LinkLayerDiscovery)
	if !is || len(lldp.PortID.ID) == 0 || len(lldp.ChassisID.ID) == 0 {
		return s, false
	}
	s.Hardware, _ = endpoint.HardwareFrom(frame[6:12])
	s.Chassis = identity(byte(lldp.ChassisID.Subtype), byte(layers.LLDPChassisIDSubTypeMACAddr),
		byte(layers.LLDPChassisIDSubTypeNetworkAddr), lldp.ChassisID.ID)
	s.Port = identity(byte(lldp.PortID.Subtype), byte(layers.LLDPPortIDSubtypeMACAddr), byte(layers.LLDPPortIDSubtypeNetworkAddr),
		lldp.PortID.ID)
	s.Life = time.Duration(lldp.TTL) * time.Second
	info, is := p.Layer(layers.LayerTypeLinkLayerDiscoveryInfo).(*layers.LinkLayerDiscoveryInfo)
	if !is {
		return s, true
	}
	s.Name, s.PortText, s.About = wiretext.Clean(info.SysName), wiretext.Clean(info.PortDescription), wiretext.Clean(info.SysDescription)
	if a, is := netip.AddrFromSlice(info.MgmtAddress.Address); is {
		s.Address = a.Unmap()
	}
	for _, o := range info.OrgTLVs {
		if o.OUI == layers.IEEEOUI8021 && o.SubType == layers.LLDP8021SubtypePortVLANID && len(o.Info) == 2 { // IEEE 802.1Q annex D.2.1
			if id := int(binary.BigEndian.Uint16(o.Info)); id >= 1 && id <= 4094 { // others are nobody's (IEEE 802.1Q §9.6)
				s.VLAN = id
			}
		}
	}
	return s, true
}

// identity writes a chassis or port identity: text, or octets where its subtype says that it is a hardware or network address.
func identity(subtype, hardware, network byte, id []byte) string {
	switch subtype {
	case hardware:
		if h, ok := endpoint.HardwareFrom(id); ok {
			return h.String()
		}
		return fmt.Sprintf("%x", id)
	case network:
		if a, ok := netip.AddrFromSlice(id[1:]); ok {
			return a.Unmap().String()
		}
		return fmt.Sprintf("%x", id)
	}
	return wiretext.Clean(string(id))
}

// LLDPFrame is what a switch says of itself on one of its ports.
func LLDPFrame(hw endpoint.HardwareAddr, name, port string, vlan int) []byte {
	value := func(t layers.LLDPTLVType, b []byte) layers.LinkLayerDiscoveryValue {
		return layers.LinkLayerDiscoveryValue{Type: t, Length: uint16(len(b)), Value: b}
	}
	lldp := &layers.LinkLayerDiscovery{
		ChassisID: layers.LLDPChassisID{Subtype: layers.LLDPChassisIDSubTypeMACAddr, ID: hw[:]},
		PortID:    layers.LLDPPortID{Subtype: layers.LLDPPortIDSubtypeIfaceName, ID: []byte(port)},
		TTL:       120,
		Values:    []layers.LinkLayerDiscoveryValue{value(layers.LLDPTLVSysName, []byte(name))},
	}
	if vlan > 0 {
		lldp.Values = append(lldp.Values,
			value(layers.LLDPTLVOrgSpecific,
				binary.BigEndian.AppendUint16([]byte{0, 0x80, 0xc2, layers.LLDP8021SubtypePortVLANID}, uint16(vlan))))
	}
	return serialize(&layers.Ethernet{SrcMAC: hw[:], DstMAC: NearestBridge[:], EthernetType: layers.EthernetTypeLinkLayerDiscovery}, lldp)
}
