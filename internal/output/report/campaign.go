package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/cluster"
	"zitherwheel/internal/output/sanitize"
)

// Campaigns writes what a hub has to do, and who is there to do it.
func (t *Text) Campaigns(list []cluster.Campaign, workers []cluster.Standing) {
	if len(list) == 0 {
		fmt.Fprintln(t.w, "No campaign yet: zwheel hunt PLAN --times 1000 --on ADDRESS begins one")
	} else {
		var table table
		table.row("campaign", "what", "state", "matches", "asked", "found", "failed", "a second", "alarms", "begun")
		for _, c := range list {
			table.row(sanitize.Text(c.Name), c.What+" "+sanitize.Text(c.Title), string(c.State), Number(c.Matches), Number(c.Asked), Number(c.Found), Number(c.Failed), fmt.Sprintf("%.3g", c.Rate), Number(c.Alarms), ago(c.Began))
		}
		table.write(t.w)
	}
	fmt.Fprintln(t.w)
	if len(workers) == 0 {
		fmt.Fprintln(t.w, "No worker is there: zwheel worker --join ADDRESS starts one")
		return
	}
	var table table
	table.row("worker", "system", "cores", "memory", "slots", "busy", "played", "failed", "version", "plays")
	for _, s := range workers {
		memory := "-"
		if s.MemoryMB > 0 {
			memory = fmt.Sprintf("%.1f GB", float64(s.MemoryMB)/1024)
		}
		plays := strings.Join(s.Playing, ", ")
		if len(s.Playing) > 2 {
			plays = fmt.Sprintf("%s and %d more", strings.Join(s.Playing[:2], ", "), len(s.Playing)-2)
		}
		switch {
		case s.Leaving:
			plays = "is leaving"
		case plays == "" && s.Refused != "":
			plays = s.Refused
		}
		table.row(sanitize.Text(s.Name), s.System+"-"+s.CPU, Number(s.Cores), memory, Number(s.Slots), Number(s.Busy), Number(s.Played), Number(s.Failed), sanitize.Text(s.Version), sanitize.Text(plays))
	}
	table.write(t.w)
}

// Campaign writes how one campaign stands.
func (t *Text) Campaign(c cluster.Campaign, alarms []cluster.Alarm) {
	fmt.Fprintf(t.w, "%s: %s of %s, %s\n", sanitize.Text(c.Name), c.What, sanitize.Text(c.Title), c.State)
	fmt.Fprintf(t.w, "begun %s by %s, with %s\n", ago(c.Began), sanitize.Text(c.Asker), sanitize.Text(c.Version))
	fmt.Fprintln(t.w, PlayedBy(c))
	if c.Bytes > 0 {
		fmt.Fprintf(t.w, "its build is %.1f MB\n", float64(c.Bytes)/1e6)
	}
	if len(c.Aside) > 0 {
		fmt.Fprintf(t.w, "put aside: %s\n", sanitize.Text(strings.Join(c.Aside, ", ")))
	}
	for _, a := range alarms {
		fmt.Fprintf(t.w, "\nALARM: %s went another way on %s than on %s\n  %s: %s\n  %s: %s\n", sanitize.Text(a.Key), sanitize.Text(a.Other), sanitize.Text(a.By), sanitize.Text(a.By), sanitize.Text(string(a.First)), sanitize.Text(a.Other), sanitize.Text(string(a.Second)))
	}
}

// PlayedBy says how many matches were played, and by whom.
func PlayedBy(c cluster.Campaign) string {
	text := fmt.Sprintf("%s matches, something found in %s, %.3g a second", Number(c.Matches), Number(c.Found), c.Rate)
	if c.Failed > 0 {
		text += fmt.Sprintf(", %s could not be played", Number(c.Failed))
	}
	if c.Checked > 0 {
		text += fmt.Sprintf(", %s played by two", Number(c.Checked))
	}
	var by []string
	for _, name := range slices.Sorted(maps.Keys(c.By)) {
		by = append(by, fmt.Sprintf("%s %s", sanitize.Text(name), Number(c.By[name])))
	}
	if len(by) > 0 {
		text += "; by " + strings.Join(by, ", ")
	}
	return text
}

func ago(t time.Time) string {
	return t.Format("2006-01-02 15:04:05")
}
