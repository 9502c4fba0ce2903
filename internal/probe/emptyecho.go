package probe

import (
	"context"
	"net/netip"

	"passepartout/internal/core/evidence"
)

// AskEmptyEcho asks for an echo without data.
func AskEmptyEcho(ctx context.Context, e *Echoer, to netip.Addr) evidence.EmptyEcho {
	x, _ := e.AskEcho(ctx, EchoQuestion{To: to, Size: 0})
	return evidence.EmptyEcho{Asked: to, Reply: x.Reply}
}
