package metrics

import (
	"encoding/json"

	"zitherwheel/internal/trace"
)

// Load is what a view's process used of the machine, with all that it started: the data of trace.LoadMark has the keys
// cpu (cores), resident (bytes), threads and files.
type Load struct {
	CPU      Spread `json:"cpu_cores"`
	Resident Spread `json:"resident_mb"`
	Threads  Spread `json:"threads"`
	Files    Spread `json:"open_files"`
}

func (v *view) tellLoad(r *trace.Record) {
	var data struct{ CPU, Resident, Threads, Files float64 }
	if json.Unmarshal([]byte(r.Data), &data) != nil {
		return
	}
	v.load.cpu.add(data.CPU)
	v.load.resident.add(data.Resident / 1e6)
	v.load.threads.add(data.Threads)
	v.load.files.add(data.Files)
}
