package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"time"
)

var addressCases = []testCase{
	{name: "no address, one offered", change: NoAddress, zone: zone.Host, fault: "no-address", confidence: verdict.Certain,
		says: "172.27.40.23/24", next: "automatic (DHCP)", cleared: []string{"dhcp-silent", "no-carrier"}},
	{name: "no address, none offered", change: func(s *evidence.Set) { NoAddress(s); NobodyOffers(s) }, zone: zone.LocalSubnet,
		fault: "dhcp-silent", confidence: verdict.Likely, cleared: []string{"no-address", "self-assigned-address"}},
	{name: "no address, and none offered for as long as a client waits", change: func(s *evidence.Set) {
		NoAddress(s)
		NobodyOffers(s)
		s.Discovery.Waited = 12 * time.Second
	}, zone: zone.LocalSubnet, fault: "dhcp-silent", confidence: verdict.Certain},
	{name: "no address, nobody may ask", change: func(s *evidence.Set) { NoAddress(s); WithoutFrames(s) }, zone: zone.Undetermined,
		confidence: verdict.Maybe, says: "DHCP", next: "allow it", possible: []string{"no-address", "dhcp-silent"}},
	{name: "one discover is not enough to call a server silent", change: func(s *evidence.Set) { NoAddress(s); s.Discovery.Offers = nil },
		zone: zone.LocalSubnet, possible: []string{"dhcp-silent"}},
	{name: "self-assigned, one offered", change: func(s *evidence.Set) {
		NoAddress(s)
		Interface(s).Addresses = []endpoint.Address{{Prefix: netip.MustParsePrefix("169.254.7.7/16")}}
	}, zone: zone.Host, fault: "self-assigned-address", says: "169.254.7.7", cleared: []string{"no-address", "dhcp-silent"}},
	{name: "self-assigned, none offered", change: func(s *evidence.Set) {
		NoAddress(s)
		NobodyOffers(s)
		Interface(s).Addresses = []endpoint.Address{{Prefix: netip.MustParsePrefix("169.254.7.7/16")}}
	}, zone: zone.LocalSubnet, fault: "dhcp-silent", says: "169.254.7.7"},
	{name: "mask too narrow explains the missing gateway", change: func(s *evidence.Set) {
		Interface(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 28)
		s.Endpoint.Routes, s.Routes, s.Connects, s.Hops = nil, []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.NoRoute}}, nil, nil
	}, zone: zone.Host, fault: "mask-too-narrow", confidence: verdict.Certain, says: "172.27.40.1",
		next: "172.27.40.23/24, mask 255.255.255.0, gateway 172.27.40.1", possible: []string{"gateway-not-set"}},
	{name: "a single address with its gateway on the link is no fault", change: func(s *evidence.Set) {
		Interface(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 32)
	}, zone: zone.None, cleared: []string{"mask-too-narrow", "gateway-outside-subnet"}},
	{name: "conflict and nothing reached", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: endpoint.HardwareAddr{2, 9}, Reply: Answer(Own, 1)}
	}, zone: zone.LocalSubnet, fault: "address-conflict", says: "172.27.40.23", also: []string{"gateway-silent"}},
	{name: "conflict beside a target that works: it takes connections away by turns", change: func(s *evidence.Set) {
		s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: endpoint.HardwareAddr{2, 9}, Reply: Answer(Own, 1)}
	}, zone: zone.LocalSubnet, fault: "address-conflict", confidence: verdict.Certain},
	{name: "nobody is heard", change: func(s *evidence.Set) { NoAddress(s); NobodyOffers(s) }, zone: zone.LocalSubnet, fault: "dhcp-silent",
		cleared: []string{"dhcp-refuses"}},
	{name: "the lease has run out, and no server is there to renew it",
		change: func(s *evidence.Set) { Leased(s, 3*time.Hour, given(24)); NobodyOffers(s) }, zone: zone.None,
		also:    []string{"dhcp-silent"},
		cleared: []string{"address-expired"}},
	{name: "a mask too narrow that harms nobody now", change: func(s *evidence.Set) {
		Interface(s).Addresses[0] = endpoint.Address{Prefix: netip.PrefixFrom(Own, 27), Origin: endpoint.ByHand}
	}, zone: zone.None, also: []string{"mask-too-narrow"}, next: "172.27.40.23/24, mask 255.255.255.0"},
	{name: "no address, and the sheet gives it one", change: func(s *evidence.Set) {
		NoAddress(s)
		NobodyOffers(s)
		s.Sheet = pier()
		s.Sheet.Networks[0].DHCP = nil
	}, zone: zone.Host, fault: "no-address", says: "the site sheet gives this machine 172.27.40.23", next: "172.27.40.23/24",
		possible: []string{"dhcp-silent"}},
}
