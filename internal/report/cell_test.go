package report_test

import (
	"encoding/csv"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/neighbours"
	"passepartout/internal/probe/neighbourwatch"
	"passepartout/internal/report"
)

// A name from the network is text to a spreadsheet, whatever it begins with.
func TestCellsThatBeginAsFormulas(t *testing.T) {
	for text, want := range map[string]string{"=cmd|'/C calc'!A1": "'=cmd|'/C calc'!A1", "+1": "'+1", "-1": "'-1", "@a": "'@a",
		"pier-gw": "pier-gw", "a=b": "a=b"} {
		var out strings.Builder
		n := report.Neighbours{
			Picture: neighbourwatch.Picture{Rows: []neighbours.Row{{Entry: neighbours.Entry{Address: netip.MustParseAddr("172.27.40.50"),
				Names: []neighbours.Name{{Text: text, Source: neighbours.ByMulticastDNS}}}}}}}
		require.NoError(t, n.WriteCSV(&out))
		rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, want, rows[1][4])
	}
}
