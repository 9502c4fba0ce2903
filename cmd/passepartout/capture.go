package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/capture"
	"passepartout/internal/core/exchange"
	"passepartout/internal/core/frame"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
	"passepartout/internal/plainfile"
	"passepartout/internal/report"
)

// The bounds of a recording where nobody says.
const (
	usualKeep = "mine or arp or dhcp or icmp"
	usualMost = "200MB"
	mostSnap  = 65535
)

// recording is what the flags of capture say.
type recording struct {
	out, keep, most string
	read            string
	frame           int // of that file: one of them, opened
	files, snap     int
	lasting         time.Duration
}

func (f *flags) captureCommand() *cobra.Command {
	var r recording
	cmd := &cobra.Command{
		Use:   "capture",
		Short: "Keeps frames of an interface in a file that any reader of the standard opens",
		Long: `Keeps the frames that pass an interface in a pcapng file, until Ctrl-C, --for, or the limit of --most.
--keep says which: mine, arp, dhcp, dns, mdns, icmp, lldp, tcp, udp, connections (their openings
and ends), host A, net PREFIX, port N,
everything; joined by and, or, not and brackets. The kernel sorts them. Nothing is sent.`,
		Example: `  passepartout capture --out pier.pcapng --keep "arp or host 172.27.40.1" --for 1m`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			opened, kept := cmd.Flags().Changed("frame"), cmd.Flags().Changed("keep")
			switch {
			case opened && r.read == "":
				return errors.New("--frame: give the file as well, such as --read pier.pcapng --frame 12")
			case opened && kept:
				return errors.New("--frame and --keep: give one of the two")
			case opened && r.frame < 1:
				return fmt.Errorf("--frame %d: frames are counted from 1", r.frame)
			case r.read != "" && r.out != "":
				return errors.New("--read and --out: give one of the two")
			case r.read == "":
				return f.capture(cmd.Context(), r)
			}
			f.rows = true
			if err := f.check(); err != nil {
				return err
			}
			if opened {
				return f.openFrame(cmd.Context(), r)
			}
			return f.readCapture(cmd.Context(), r, kept)
		},
	}
	cmd.Flags().StringVar(&r.read, "read", "", "in place of keeping frames: what passes in this file, pcap or pcapng, as exchanges")
	cmd.Flags().IntVar(&r.frame, "frame", 0, "with --read: the frame of this number, layer by layer (exchanges name their first and last)")
	cmd.Flags().StringVar(&r.out, "out", "", "the file to keep them in, its name ending in .pcapng")
	cmd.Flags().StringVar(&r.keep, "keep", usualKeep, "which frames")
	cmd.Flags().DurationVar(&r.lasting, "for", 0, "for so long (default: until Ctrl-C)")
	cmd.Flags().StringVar(&r.most, "most", usualMost, "how much at most, in all files together, such as 50MB")
	cmd.Flags().IntVar(&r.files, "files", 1,
		"in how many files: the oldest goes when there is no more room, and with one the recording ends")
	cmd.Flags().IntVar(&r.snap, "snap", mostSnap, "how many octets of a frame at most")
	return cmd
}

// readCapture tells what passes in a file.
func (f *flags) readCapture(ctx context.Context, r recording, kept bool) error {
	var takes func([]byte) bool
	if kept {
		choice, err := capture.ParseChoice(r.keep)
		if err == nil && choice.AboutMine() {
			err = errors.New("mine is not known of a file: give host and the address")
		}
		if err == nil {
			takes, err = choice.Taker(capture.Mine{})
		}
		if err != nil {
			return fmt.Errorf("--keep: %w", err)
		}
	}
	file, err := plainfile.Open(r.read)
	if err != nil {
		return err
	}
	defer file.Close()
	out := report.Passing{File: r.read}
	tracker := exchange.NewTracker(out.Take)
	out.Frames, out.Unknown, err = capture.Exchanges(interruptible{ctx, file}, tracker, takes, func(number int, why string) {
		fmt.Fprintf(os.Stderr, "frame %d: %s\n", number, why)
	})
	if err != nil {
		return fmt.Errorf("%s: %w", r.read, err)
	}
	tracker.End()
	exchange.Sort(out.List)
	return f.write(&out)
}

// openFrame tells one frame of a file, layer by layer.
func (f *flags) openFrame(ctx context.Context, r recording) error {
	file, err := plainfile.Open(r.read)
	if err != nil {
		return err
	}
	defer file.Close()
	one, link, err := capture.One(interruptible{ctx, file}, r.frame)
	if err != nil {
		return fmt.Errorf("%s: %w", r.read, err)
	}
	return f.write(&report.Opened{File: r.read, Number: one.Number, At: one.At, Octets: len(one.Data), Cut: one.Cut,
		Layers: frame.Open(link, one.Data)})
}

// sizeOf reads an amount such as 50MB.
func sizeOf(text string) (int64, error) {
	number, unit := strings.TrimRight(strings.ToUpper(text), "KMGB"), int64(1)
	switch strings.TrimPrefix(strings.ToUpper(text), number) {
	case "KB":
		unit = 1000
	case "MB":
		unit = 1_000_000
	case "GB":
		unit = 1_000_000_000
	default:
		return 0, fmt.Errorf("--most %q: give a size such as 50MB", wiretext.Clip(text))
	}
	n, err := strconv.ParseInt(number, 10, 32)
	if size := n * unit; err == nil && size >= 100_000 && size <= 1_000_000_000_000 {
		return size, nil
	}
	return 0, fmt.Errorf("--most %q: give 100KB to 1000GB", wiretext.Clip(text))
}

func (f *flags) capture(ctx context.Context, r recording) error {
	choice, err := capture.ParseChoice(r.keep)
	if err != nil {
		return fmt.Errorf("--keep: %w", err)
	}
	most, err := sizeOf(r.most)
	switch {
	case err != nil:
		return err
	case r.out == "":
		return errors.New("--out is missing: give a file, such as --out pier.pcapng")
	case !strings.HasSuffix(r.out, ".pcapng"):
		return fmt.Errorf("--out %s: let the name end in .pcapng, which is what is written", r.out)
	case r.files < 1 || r.files > 1000:
		return fmt.Errorf("--files %d: give 1 to 1000", r.files)
	case most/int64(r.files) < 50_000:
		return fmt.Errorf("--most %s in %d files: less than 50 kB each; give more, or fewer files", r.most, r.files)
	case r.snap < 64 || r.snap > mostSnap:
		return fmt.Errorf("--snap %d: give 64 to %d octets", r.snap, mostSnap)
	case r.lasting < 0:
		return fmt.Errorf("--for %v: give a time such as 1m", r.lasting)
	}
	m, e, iface, leave, err := f.standing(ctx)
	if err != nil {
		return err
	}
	defer leave()
	from, ok := m.(machine.Capturer)
	if !ok {
		return errors.New("this machine's frames cannot be recorded")
	}
	i, _ := e.Interface(iface)
	program, err := choice.Compile(capture.Mine{Hardware: i.Hardware}, r.snap)
	if err != nil {
		return fmt.Errorf("--keep: %w", err)
	}
	socket, err := from.OpenCapture(machine.CaptureConfig{Interface: iface, Choose: program})
	if errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("frames may not be recorded without permission; this gives it: %s",
			cmp.Or(m.Permissions().Frames.Mend, "sudo setcap cap_net_raw+ep $(command -v passepartout)"))
	}
	if err != nil {
		return err
	}
	defer socket.Close()
	if r.lasting > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, r.lasting)
		defer stop()
	}
	told := func(k capture.Kept) report.Recorded {
		return report.Recorded{Interface: iface, Keep: r.keep, Frames: k.Frames, Octets: k.Octets, Dropped: k.Dropped, Files: k.Files,
			Began: k.Began,
			Ended: k.Ended, Why: k.Why}
	}
	last := time.Now()
	kept, err := capture.Record(ctx, socket, capture.Recording{Path: r.out, Interface: iface, Keep: r.keep, Snap: r.snap, Most: most,
		Files:       r.files,
		Application: "passepartout " + release}, func(k capture.Kept) {
		if time.Since(last) >= progressEvery {
			last = time.Now()
			fmt.Fprintln(os.Stderr, told(k).Line())
		}
	})
	out := told(kept)
	if err != nil && len(kept.Files) == 0 {
		return err
	}
	if err != nil {
		out.Why = err.Error()
	}
	if f.format == "json" {
		if failed := out.WriteJSON(stdout); failed != nil {
			return failed
		}
	}
	fmt.Fprintln(os.Stderr, out.Line())
	if err == nil && out.Why != "" {
		fmt.Fprintln(os.Stderr, "it ended since "+out.Why)
	}
	return err
}

// progressEvery is how often it is said how far a recording is.
const progressEvery = 10 * time.Second
