package main

import (
	"runtime/debug"
	"strings"
)

// release is what this source becomes. What it was built from is added where the compiler wrote that down.
const release = "0.2"

// version is that of the program: of a module, its own; else the release, with the revision of the source.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return release
	}
	if v := info.Main.Version; v != "" && v != "(devel)" && !strings.HasPrefix(v, "v0.0.0-") { // that is made up of a commit, see below
		return strings.TrimPrefix(v, "v")
	}
	revision, changed := "", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(len(s.Value), 12)]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", changed"
		}
	}
	if revision == "" {
		return release
	}
	return release + " (" + revision + changed + ")"
}
