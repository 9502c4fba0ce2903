package main

import (
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/draw"
	"passepartout/internal/report"
)

func (f *flags) bindDrawing(cmd *cobra.Command, path *string) {
	cmd.Flags().StringVar(path, "draw", "", "also draw the result into FILE.svg or FILE.pdf")
}

// checkDrawing refuses a name that cannot be drawn into before anything is asked.
func (f *flags) checkDrawing(path string) error {
	if path == "" {
		return nil
	}
	_, err := draw.Format(path)
	return err
}

func (f *flags) drawTimes(path string, a asked, t report.Times) error {
	if path == "" {
		return nil
	}
	return t.Page(a.endpoint.Host).WriteFile(path)
}

func (f *flags) drawPath(path string, a asked, t report.Trace) error {
	if path == "" {
		return nil
	}
	return t.Page(a.endpoint.Host, time.Now()).WriteFile(path)
}
