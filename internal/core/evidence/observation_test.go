package evidence_test

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// filled gives every field of a value something to hold, so that what is lost on the way into a log and out of it shows.
func filled(v reflect.Value) {
	switch x := v.Addr().Interface().(type) {
	case *netip.Addr:
		*x = netip.MustParseAddr("172.27.40.1")
		return
	case *netip.Prefix:
		*x = netip.MustParsePrefix("172.27.40.23/24")
		return
	case *netip.AddrPort:
		*x = netip.MustParseAddrPort("[2001:db8::1]:443")
		return
	case *time.Time:
		*x = time.Date(2026, 11, 23, 9, 14, 3, 250_000_001, time.UTC)
		return
	case *endpoint.HardwareAddr:
		*x = endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			filled(v.Field(i))
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		filled(v.Index(0))
		filled(v.Index(1))
	case reflect.String:
		v.SetString("text with \x1b and \"quotes\"")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Uint8, reflect.Uint16, reflect.Uint64, reflect.Uint:
		v.SetUint(1)
	case reflect.Int, reflect.Int64:
		v.SetInt(123456789)
	}
}

func TestEverySortComesBackFromALog(t *testing.T) {
	for _, name := range evidence.SortNames() {
		o, err := evidence.Decode(name, []byte("null"))
		require.NoError(t, err, name)
		assert.Equal(t, name, evidence.SortName(o))
		full := reflect.New(reflect.TypeOf(o))
		filled(full.Elem())
		raw, err := json.Marshal(full.Interface())
		require.NoError(t, err, name)
		back, err := evidence.Decode(name, raw)
		require.NoError(t, err, "%s: %s", name, raw)
		assert.Equal(t, full.Elem().Interface(), back, name)
	}
	_, err := evidence.Decode("gossip", nil)
	assert.EqualError(t, err, `no observation is called "gossip"`)
	_, err = evidence.Decode("echo", []byte(`{"Outcome":"perhaps"}`))
	assert.ErrorContains(t, err, `"perhaps" is none of not known, answered`)
}

// What a Set holds and no observation brings would be missing from every log, and a kind that none brings could never be open.
func TestEverythingInASetIsBroughtByAnObservation(t *testing.T) {
	brought, kinds := map[string]bool{}, map[evidence.Kind]bool{evidence.Settings: true}
	for _, name := range evidence.SortNames() {
		o, _ := evidence.Decode(name, []byte("null"))
		full := reflect.New(reflect.TypeOf(o))
		filled(full.Elem())
		var s evidence.Set
		s.Take(full.Elem().Interface().(evidence.Observation))
		for _, f := range reflect.VisibleFields(reflect.TypeFor[evidence.Set]()) {
			if !reflect.ValueOf(s).FieldByIndex(f.Index).IsZero() {
				brought[f.Name] = true
			}
		}
		for _, k := range evidence.Brings(o) {
			kinds[k] = true
		}
	}
	// the question, and how far it has come
	about := []string{"Target", "Interface", "Endpoint", "Sheet", "Families", "Before", "Open", "Elapsed"}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[evidence.Set]()) {
		if !brought[f.Name] {
			assert.Contains(t, about, f.Name)
		}
	}
	for _, k := range evidence.Kinds() {
		assert.NotEmpty(t, k.String())
		assert.True(t, kinds[k], "%s: no observation is of that kind", k)
	}
}

func TestWhatWasHandedOutStaysInItsOrder(t *testing.T) {
	one, two := evidence.Echo{Asked: netip.MustParseAddr("172.27.40.2")}, evidence.Echo{Asked: netip.MustParseAddr("172.27.40.1")}
	var s evidence.Set
	s.Take(one)
	s.Take(two)
	ordered := s.Ordered()
	assert.Equal(t, []evidence.Echo{two, one}, ordered.Echoes)
	assert.Equal(t, []evidence.Echo{one, two}, s.Echoes)
}
