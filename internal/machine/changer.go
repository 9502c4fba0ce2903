package machine

import (
	"context"

	"passepartout/internal/core/change"
)

// Changer is a machine that lets itself be told. A step that it refuses has altered nothing; the error says in one line what was to be done
// and why it was not: fs.ErrPermission where this process may not.
type Changer interface {
	Do(ctx context.Context, o change.Op) error
}
