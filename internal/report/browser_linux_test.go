package report_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/png"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/ticket"
	"passepartout/internal/report"
)

// The page as a browser has it, without any network: nothing is asked for but the page itself, it is drawn at the width of a telephone and
// of a sheet of paper without running out of either, and can be printed.
func TestThePageInABrowser(t *testing.T) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("chromium is not installed: the page is read by a parser alone")
	}
	if os.Getuid() != 0 {
		t.Skip("a namespace without a network needs root")
	}
	dir := t.TempDir()
	page, log := filepath.Join(dir, "report.html"), filepath.Join(dir, "net.json")
	var b bytes.Buffer
	require.NoError(t, report.TicketOf(handedOver(), ticket.About{Complaint: hostile + strings.Repeat("wideword", 30)}).WriteHTML(&b))
	require.NoError(t, os.WriteFile(page, b.Bytes(), 0o600))
	run := func(args ...string) string {
		cmd := exec.Command("unshare", append([]string{"--net", browser, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars",
			"--user-data-dir=" + filepath.Join(dir, "profile")}, append(args, "file://"+page)...)...)
		cmd.Env = append(os.Environ(), "HOME="+dir)
		out, err := cmd.Output()
		require.NoError(t, err, string(out))
		return string(out)
	}
	dom := run("--dump-dom", "--log-net-log="+log)
	assert.Contains(t, dom, "&lt;script&gt;alert(1)&lt;/script&gt;")
	var net struct {
		Events []struct{ Params struct{ URL string } }
	}
	raw, err := os.ReadFile(log)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &net))
	for _, e := range net.Events {
		u, err := url.Parse(e.Params.URL)
		require.NoError(t, err)
		own := slices.ContainsFunc([]string{"google.com", "googleapis.com", "gstatic.com", "gvt1.com"}, func(of string) bool {
			return strings.HasSuffix(u.Host, of) // what the browser asks for itself, whatever the page
		})
		assert.True(t, own || u.Host == "" && (u.Scheme != "file" || u.Path == page), "%v", u)
	}
	for _, width := range []int{500, 1000} { // the narrowest window that it opens, and a sheet of paper
		shot := filepath.Join(dir, fmt.Sprintf("%d.png", width))
		run(fmt.Sprintf("--window-size=%d,1400", width), "--screenshot="+shot)
		f, err := os.Open(shot)
		require.NoError(t, err)
		img, err := png.Decode(f)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		assert.Equal(t, width, img.Bounds().Dx())
		ink := 0
		for x := width - 3; x < width; x++ { // nothing runs out of it at the right
			for y := range img.Bounds().Dy() {
				if r, g, b, _ := img.At(x, y).RGBA(); r+g+b < 3*0x8000 {
					ink++
				}
			}
		}
		assert.Zero(t, ink, "%d", width)
	}
	run("--print-to-pdf=" + filepath.Join(dir, "page.pdf"))
	printed, err := os.ReadFile(filepath.Join(dir, "page.pdf"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(printed, []byte("%PDF-")))
}
