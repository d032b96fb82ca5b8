package outpost

import (
	"os"
	"path/filepath"
	"testing"

	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// What lies on media may have been changed by anybody.
func FuzzOpenCarried(f *testing.F) {
	f.Add([]byte(`{"work":{"outpost":"alpine","deliveries":[{"delivery":1,"members":[{"workstation":7,"name":"alpine-01"}]}]},"alone":true,"key":"00","workstations":[{"delivery":1,"workstation":7,"name":"alpine-01","hardware_addresses":["00:00:5e:00:53:11"],"serial":"AW-0011","pass":"p","signed":"s"}],"files":[{"asked":"payloads/00","file":{"digest":"af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262","size":1}}]}`))
	f.Add([]byte(`{"workstations":[{},{"name":"x"}],"files":[{}]}`))
	f.Add([]byte(`null`))
	f.Fuzz(func(t *testing.T, text []byte) {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "carried.json"), text, 0o600); err != nil {
			t.Fatal(err)
		}
		c, err := openCarried(dir)
		if err != nil {
			return
		}
		for _, place := range c.whose([]hwaddr.Address{hwaddr.MustParse("00:00:5e:00:53:11")}, roster.NewIdentity("", "AW-0011")) {
			c.arrives(c.member(place))
		}
		if len(c.whose(nil, roster.Identity{})) > 0 {
			t.Error("somebody who says nothing is taken for a workstation")
		}
		if c.lets("", nil) && c.Key == "" {
			t.Error("nobody's ticket lets in")
		}
		c.file("payloads/00")
		c.to()
	})
}
