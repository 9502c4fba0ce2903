package dhcp

// The options that have a meaning here. RFC 2132 unless another is named.
const (
	OptMask            = 1
	OptRouters         = 3
	OptResolvers       = 6
	OptHostname        = 12
	OptDomain          = 15
	OptMTU             = 26
	OptTimeServers     = 42
	OptRequested       = 50
	OptLease           = 51
	OptType            = 53
	OptServer          = 54
	OptMessage         = 56
	OptT1              = 58
	OptT2              = 59
	OptClientID        = 61
	OptRapidCommit     = 80  // RFC 4039
	OptFQDN            = 81  // RFC 4702
	OptSearch          = 119 // RFC 3397
	OptCaptivePortal   = 114 // RFC 8910
	OptClasslessRoutes = 121 // RFC 3442
	OptProxyConfig     = 252 // never registered, and in wide use
)

// shape is how the data of an option is written.
type shape uint8

const (
	asHex shape = iota
	asAddresses
	asAddress
	asMask
	asText
	asSeconds
	asSigned // seconds, with a sign
	asNumber
	asYesNo
	asPairs     // address and mask, or address and router
	asClassless // RFC 3442
	asCodes     // a list of option codes
	asType
	asClientID
	asFQDN
	asSearch
	asRelay
	asNumbers16
	asNothing
	asOverload
	asVendors // RFC 3925
	asNode
)

// registered are the options by their names in the registry and in the RFC that defines them.
var registered = map[uint8]struct {
	name string
	as   shape
}{
	1: {"Subnet Mask", asMask}, 2: {"Time Offset", asSigned}, 3: {"Router", asAddresses}, 4: {"Time Server", asAddresses},
	5: {"Name Server", asAddresses},
	6: {"Domain Name Server", asAddresses}, 7: {"Log Server", asAddresses}, 8: {"Cookie Server", asAddresses},
	9:  {"LPR Server", asAddresses},
	10: {"Impress Server", asAddresses}, 11: {"Resource Location Server", asAddresses}, 12: {"Host Name", asText},
	13: {"Boot File Size", asNumber},
	14: {"Merit Dump File", asText}, 15: {"Domain Name", asText}, 16: {"Swap Server", asAddress}, 17: {"Root Path", asText},
	18: {"Extensions Path", asText},
	19: {"IP Forwarding", asYesNo}, 20: {"Non-Local Source Routing", asYesNo}, 21: {"Policy Filter", asPairs},
	22: {"Maximum Datagram Reassembly Size", asNumber},
	23: {"Default IP Time-to-live", asNumber}, 24: {"Path MTU Aging Timeout", asSeconds}, 25: {"Path MTU Plateau Table", asNumbers16},
	26: {"Interface MTU", asNumber},
	27: {"All Subnets are Local", asYesNo}, 28: {"Broadcast Address", asAddress}, 29: {"Perform Mask Discovery", asYesNo},
	30: {"Mask Supplier", asYesNo},
	31: {"Perform Router Discovery", asYesNo}, 32: {"Router Solicitation Address", asAddress}, 33: {"Static Route", asPairs},
	34: {"Trailer Encapsulation", asYesNo},
	35: {"ARP Cache Timeout", asSeconds}, 36: {"Ethernet Encapsulation", asYesNo}, 37: {"TCP Default TTL", asNumber},
	38: {"TCP Keepalive Interval", asSeconds},
	39: {"TCP Keepalive Garbage", asYesNo}, 40: {"Network Information Service Domain", asText},
	41: {"Network Information Servers", asAddresses},
	42: {"Network Time Protocol Servers", asAddresses}, 43: {"Vendor Specific Information", asHex},
	44: {"NetBIOS over TCP/IP Name Server", asAddresses},
	45: {"NetBIOS over TCP/IP Datagram Distribution Server", asAddresses}, 46: {"NetBIOS over TCP/IP Node Type", asNode},
	47: {"NetBIOS over TCP/IP Scope", asText},
	48: {"X Window System Font Server", asAddresses}, 49: {"X Window System Display Manager", asAddresses},
	50: {"Requested IP Address", asAddress},
	51: {"IP Address Lease Time", asSeconds}, 52: {"Option Overload", asOverload}, 53: {"DHCP Message Type", asType},
	54: {"Server Identifier", asAddress},
	55: {"Parameter Request List", asCodes}, 56: {"Message", asText}, 57: {"Maximum DHCP Message Size", asNumber},
	58: {"Renewal (T1) Time Value", asSeconds},
	59: {"Rebinding (T2) Time Value", asSeconds}, 60: {"Vendor Class Identifier", asText}, 61: {"Client-identifier", asClientID},
	64: {"Network Information Service+ Domain", asText}, 65: {"Network Information Service+ Servers", asAddresses},
	66: {"TFTP Server Name", asText},
	67: {"Bootfile Name", asText}, 68: {"Mobile IP Home Agent", asAddresses}, 69: {"Simple Mail Transport Protocol Server", asAddresses},
	70: {"Post Office Protocol Server", asAddresses}, 71: {"Network News Transport Protocol Server", asAddresses},
	72: {"Default World Wide Web Server", asAddresses},
	73: {"Default Finger Server", asAddresses}, 74: {"Default Internet Relay Chat Server", asAddresses}, 77: {"User Class", asHex},
	80: {"Rapid Commit", asNothing},
	81: {"Client FQDN", asFQDN}, 82: {"Relay Agent Information", asRelay}, 90: {"Authentication", asHex},
	91: {"Client Last Transaction Time", asSeconds},
	92: {"Associated IP", asAddresses}, 93: {"Client System Architecture", asNumbers16}, 94: {"Client Network Interface", asHex},
	97:  {"Client Machine Identifier", asHex},
	100: {"Time Zone, POSIX", asText}, 101: {"Time Zone, TZ Database", asText}, 108: {"IPv6-Only Preferred", asSeconds},
	114: {"Captive Portal", asText},
	116: {"Auto-Configure", asYesNo}, 117: {"Name Service Search", asNumbers16}, 118: {"Subnet Selection", asAddress},
	119: {"Domain Search", asSearch},
	120: {"SIP Servers", asHex}, 121: {"Classless Static Route", asClassless}, 124: {"Vendor-Identifying Vendor Class", asVendors},
	125: {"Vendor-Identifying Vendor Options", asVendors}, 138: {"CAPWAP Access Controllers", asAddresses},
	145: {"Forcerenew Nonce Capable", asHex},
	150: {"TFTP Server Address", asAddresses}, 152: {"Base Time", asNumber}, 153: {"Start Time of State", asSeconds},
	160: {"Captive Portal, former code", asText},
	161: {"Manufacturer Usage Description URL", asText}, 212: {"6RD", asHex}, 252: {"Proxy Automatic Configuration, unregistered", asText},
}

// Name is an option's registered name.
func Name(code uint8) string {
	if o, ok := registered[code]; ok {
		return o.name
	}
	if code >= 224 {
		return "Private Use" // RFC 3942 §2
	}
	return "unassigned here"
}
