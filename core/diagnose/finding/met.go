package finding

import (
	"errors"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/wire"
)

// met are the causes of what package wire meets on the network.
var met = []struct {
	reason error
	code   causes.Code
}{
	{wire.ErrNameUnknown, causes.NameUnknown}, {wire.ErrNoNames, causes.NetworkDown},
	{wire.ErrNoRoute, causes.NetworkDown},
	{wire.ErrForbidden, causes.FirewallHere},
	{wire.ErrRefused, causes.PortRefused}, {wire.ErrSilent, causes.PortSilent}, {wire.ErrNotSSH, causes.NotSSH},
	{wire.ErrHungUp, causes.ConnectionClosed}, {wire.ErrDamaged, causes.LineDamaged}, {wire.ErrNotTLS, causes.NotTLS},
	{wire.ErrNoProxy, causes.ProxyUnreachable},
	{wire.ErrProxySignIn, causes.ProxySignIn}, {wire.ErrProxyRefuses, causes.ProxyRefused},
	{wire.ErrProxy, causes.ProxyCommandFailed},
	{wire.ErrAlgorithms, causes.AlgorithmsDiffer}, {wire.ErrVersion, causes.TLSVersion},
	{wire.ErrOwn, causes.TLSOwnCertificate},
}

// Met finds the cause of what package wire met; otherwise where there is none for it.
func Met(reason error, otherwise causes.Code) causes.Code {
	for _, row := range met {
		if errors.Is(reason, row.reason) {
			return row.code
		}
	}
	return otherwise
}
