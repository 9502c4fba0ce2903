package scenario

import (
	"reflect"
	"sync"

	"github.com/goccy/go-yaml"
)

// Reading a site takes a hundred times as long as copying one, and scenarios stand on few of them.
var (
	sitesLock sync.Mutex
	sitesRead = map[string]*Site{} // by their text
)

// mostSites are remembered: there are fewer, but for those that are varied.
const mostSites = 16

// readSite reads a site, which is the caller's own.
func readSite(raw []byte) (*Site, error) {
	sitesLock.Lock()
	known := sitesRead[string(raw)]
	sitesLock.Unlock()
	if known == nil {
		known = &Site{}
		if err := yaml.UnmarshalWithOptions(raw, known, yaml.Strict()); err != nil {
			return nil, err
		}
		sitesLock.Lock()
		if len(sitesRead) < mostSites {
			sitesRead[string(raw)] = known
		}
		sitesLock.Unlock()
	}
	return deepCopy(reflect.ValueOf(known)).Interface().(*Site), nil
}

// deepCopy copies all that can be reached from a value. What has no exported fields, such as an address, is copied as it is.
func deepCopy(v reflect.Value) reflect.Value {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(v.Type().Elem())
		out.Elem().Set(deepCopy(v.Elem()))
		return out
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out := reflect.MakeMapWithSize(v.Type(), v.Len())
		for i := v.MapRange(); i.Next(); {
			out.SetMapIndex(i.Key(), deepCopy(i.Value()))
		}
		return out
	case reflect.Slice:
		if v.IsNil() {
			return v
		}
		out := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(deepCopy(v.Index(i)))
		}
		return out
	case reflect.Struct:
		out := reflect.New(v.Type()).Elem()
		out.Set(v)
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				out.Field(i).Set(deepCopy(v.Field(i)))
			}
		}
		return out
	}
	return v
}
