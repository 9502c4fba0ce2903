package subnet

import "net/netip"

// Kind says what an address is good for, by the registry that reserves it.
type Kind uint8

// The kinds. Zero is "not an address".
const (
	NoAddress     Kind = iota
	Unspecified        // 0.0.0.0/8 (RFC 1122 §3.2.1.3), ::
	Loopback           // 127.0.0.0/8, ::1
	SelfAssigned       // 169.254.0.0/16 (RFC 3927)
	LinkLocal          // fe80::/10 (RFC 4291 §2.5.6)
	Private            // RFC 1918
	UniqueLocal        // fc00::/7 (RFC 4193)
	CarrierShared      // 100.64.0.0/10 (RFC 6598)
	Multicast          // 224.0.0.0/4, ff00::/8
	Reserved           // 240.0.0.0/4 and the limited broadcast
	Global             // all else
)

var kindNames = map[Kind]string{
	NoAddress: "no address", Unspecified: "unspecified", Loopback: "loopback", SelfAssigned: "self-assigned", LinkLocal: "link-local",
	Private: "private", UniqueLocal: "unique local", CarrierShared: "carrier-shared", Multicast: "multicast", Reserved: "reserved",
	Global: "global",
}

func (k Kind) String() string { return kindNames[k] }

var (
	thisNetwork   = netip.MustParsePrefix("0.0.0.0/8")
	selfAssigned  = netip.MustParsePrefix("169.254.0.0/16")
	carrierShared = netip.MustParsePrefix("100.64.0.0/10")
	reserved      = netip.MustParsePrefix("240.0.0.0/4")
	uniqueLocal   = netip.MustParsePrefix("fc00::/7")
)

// KindOf classifies a. IPv4-mapped addresses are judged as the IPv4 address inside; a zone is ignored.
func KindOf(a netip.Addr) Kind {
	a = a.Unmap().WithZone("")
	switch {
	case !a.IsValid():
		return NoAddress
	case a.IsUnspecified(), thisNetwork.Contains(a):
		return Unspecified
	case a.IsLoopback():
		return Loopback
	case selfAssigned.Contains(a):
		return SelfAssigned
	case a.IsLinkLocalUnicast():
		return LinkLocal
	case uniqueLocal.Contains(a):
		return UniqueLocal
	case a.IsPrivate():
		return Private
	case carrierShared.Contains(a):
		return CarrierShared
	case a.IsMulticast():
		return Multicast
	case reserved.Contains(a):
		return Reserved
	}
	return Global
}

// Routable reports whether traffic can be expected to reach beyond the segment with an address of this kind.
func (k Kind) Routable() bool {
	return k == Private || k == UniqueLocal || k == CarrierShared || k == Global
}
