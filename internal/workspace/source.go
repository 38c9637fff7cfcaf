package workspace

import "net/netip"

// Network is what a source counts as where something is bounded: its address, of IPv6 the network of 64
// bits that one place has to itself.
func Network(source string) string {
	a, err := netip.ParseAddr(source)
	if err != nil {
		return source
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, _ := a.Prefix(64) // of an address that has more
	return p.String()
}
