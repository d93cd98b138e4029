package registry

import "context"

// ReadRegister reads the register, so that the first who asks need not wait.
func (rg *Registry) ReadRegister(ctx context.Context) {
	if err := rg.Store.Follow(ctx); err != nil {
		if ctx.Err() == nil {
			rg.Log.Error("reading the register", "error", err)
		}
		return
	}
	rg.KeepIndex(ctx)
}

// KeepIndex keeps what was made of the register for the next start. Without it that takes longer, and nothing else.
func (rg *Registry) KeepIndex(ctx context.Context) {
	if err := rg.Store.KeepIndex(ctx); err != nil {
		rg.Log.Warn("the index of the register could not be written; the next start takes longer", "error", err)
	}
}
