//go:build !race

package simulated

// raceDetector reports whether this is a run under the race detector: see unpooled.
const raceDetector = false
