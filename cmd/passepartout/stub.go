package main

import (
	"context"
)

func (f *flags) screen(ctx context.Context, args []string) error { return nil }
func (f *flags) demo(ctx context.Context, args []string) error   { return nil }
