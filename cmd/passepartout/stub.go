package main
import ("context";"github.com/spf13/cobra")
func (f *flags) screen(ctx context.Context, args []string) error { return nil }
func (f *flags) demo(ctx context.Context, args []string) error { return nil }
func (f *flags) pingCommand() *cobra.Command { return &cobra.Command{Use:"ping"} }
func (f *flags) traceCommand() *cobra.Command { return &cobra.Command{Use:"trace"} }
