package way

import (
	"fmt"
	"net/netip"
	"syscall"
)

// PublicOnly is a net.Dialer's Control that refuses to connect to this machine and to
// private networks. It sees the address after the name has been resolved.
func PublicOnly(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() || ip.IsMulticast() || !ip.IsGlobalUnicast() {
		return &PrivateError{ip}
	}
	return nil
}

// PrivateError says that an address is private.
type PrivateError struct{ Address netip.Addr }

func (e *PrivateError) Error() string {
	return fmt.Sprintf("%s is a private address, which this installation does not fetch from", e.Address)
}
