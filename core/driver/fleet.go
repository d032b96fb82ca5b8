package driver

import "slices"

// Machine is a workstation with its devices.
type Machine struct {
	Name    string
	Model   string // maker and model
	Devices []Device
}

// FleetOf are the devices of machines by model, each once.
func FleetOf(machines []Machine) Fleet {
	f := Fleet{}
	seen := map[[2]string]int{} // the place of a device among its model's
	for _, m := range machines {
		for _, d := range m.Devices {
			key := [2]string{m.Model, d.Modalias}
			at, there := seen[key]
			if !there {
				seen[key] = len(f[m.Model])
				f[m.Model] = append(f[m.Model], d)
			} else if !d.Empty { // one machine that has a disk on it is enough
				f[m.Model][at].Empty = false
			}
		}
	}
	return f
}

// Served are, by the id of a package, the names of the machines that have a device for
// which it is the best one of its kind. Devices that many machines have are looked up
// once.
func Served(machines []Machine, x *Index) map[string][]string {
	best := map[string][]string{} // of a modalias, package ids
	served := map[string][]string{}
	for _, m := range machines {
		var mine []string
		for _, d := range m.Devices {
			ids, known := best[d.Modalias]
			if !known {
				for _, t := range []Target{{System: Windows, Arch: "amd64"}, {System: Linux, Arch: "amd64"}} {
					if c := x.Candidates(d, t); len(c) > 0 {
						ids = append(ids, c[0].Package.ID)
					}
				}
				best[d.Modalias] = ids
			}
			mine = append(mine, ids...)
		}
		slices.Sort(mine)
		for _, id := range slices.Compact(mine) {
			served[id] = append(served[id], m.Name)
		}
	}
	return served
}
