package crowd

import "runcrowd/internal/signal"

// Roster is the table of a group's devices: a row a device, a column a property.
type Roster struct {
	File    string
	Lines   []int    // of the rows in the file
	Devices []string // the names, where the file has a column of them; else nil
	Columns []RosterColumn
}

// RosterColumn is one property of the devices of a roster.
type RosterColumn struct {
	Name   string
	Type   signal.Type
	Secret bool           // never printed
	Values []signal.Value // by row; Null where the cell is empty
}

// Name is what the roster calls the i-th device (from 0); empty where it does not.
func (ro *Roster) Name(i int) string {
	if ro.Devices == nil {
		return ""
	}
	return ro.Devices[i]
}
