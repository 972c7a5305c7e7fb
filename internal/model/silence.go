package model

import (
	"context"
	"errors"
	"time"
)

// ErrSilent is the cause of a context that a model's silence has ended.
var ErrSilent = errors.New("the model was silent for too long")

// Silence bounds how long a model may say nothing: the context that it gives ends, with
// ErrSilent as its cause, where heard is not called for that long. Heard may be called by one
// goroutine at a time.
func Silence(ctx context.Context, limit time.Duration) (bounded context.Context, heard func(), stop func()) {
	bounded, cancel := context.WithCancelCause(ctx)
	t := time.AfterFunc(limit, func() { cancel(ErrSilent) })
	return bounded, func() { t.Reset(limit) }, func() { t.Stop(); cancel(nil) }
}
