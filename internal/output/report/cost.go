package report

import (
	"fmt"

	"zitherwheel/internal/verdict/cost"
)

const (
	fieldsPriced = 20
	tipsShown    = 12
)

// Cost writes what the fields of a state cost, and what would do.
func (t *Text) Cost(r *cost.Report) {
	fmt.Fprintf(t.w, "The server told its state %.3g times a second for %.0f s; %s\n", r.Told, r.Length, count(r.Clients, "client", "clients"))
	if m := r.Measured; m.Egress+m.Ingress > 0 {
		fmt.Fprintf(t.w, "Measured: server %s B/s out, %s B/s in; %s B/s to a player on average; %.3g GB an hour\n", Number(int(m.Egress)), Number(int(m.Ingress)), Number(int(m.PerPlayer)), m.PerHour)
	} else {
		fmt.Fprintln(t.w, "Nothing was measured of the traffic: the clients went over no link")
	}
	fmt.Fprintln(t.w, "\nWhat the values need, to one client, if changes alone are sent, without headers and ids:")
	var table table
	table.right = true
	table.row("  field", "entities", "told/s", "changes/s", "too small", "from", "to", "step", "values", "bits", "enough bits", "B/s", "enough B/s")
	for i, f := range r.Fields {
		if i == fieldsPriced {
			break
		}
		from, to, step := "-", "-", "-"
		if f.Kind == "number" {
			from, to = fmt.Sprintf("%.6g", *f.Least), fmt.Sprintf("%.6g", *f.Most)
			if f.Step > 0 && f.Values > 1 {
				step = fmt.Sprintf("%.4g", f.Step)
			}
		}
		table.row("  "+f.Sort+"."+f.Field, Number(f.Entities), fmt.Sprintf("%.3g", f.Updates), fmt.Sprintf("%.3g", f.Changes), Percent(f.Small), from, to, step, Number(f.Values),
			fmt.Sprintf("%.0f", f.Now), fmt.Sprintf("%.0f", f.Enough), Number(int(f.Cost+0.5)), Number(int(f.Would+0.5)))
	}
	table.write(t.w)
	if more := len(r.Fields) - fieldsPriced; more > 0 {
		fmt.Fprintf(t.w, "  and %d more that cost less\n", more)
	}
	fmt.Fprintln(t.w, "\nAt other send rates:")
	table.rows = nil
	table.row("  a second", "B/s to a client", "within tolerances", "to all clients")
	for _, at := range r.Rates {
		table.row(fmt.Sprintf("  %.0f", at.PerSecond), Number(int(at.Now+0.5)), Number(int(at.Enough+0.5)), Number(int(at.All+0.5)))
	}
	table.write(t.w)
	if len(r.Advice) == 0 {
		fmt.Fprintln(t.w, "\nNothing would do with less")
		return
	}
	fmt.Fprintln(t.w, "\nWhat would do, what gains most first (of what all fields need; two gains of one field do not add up):")
	for i, tip := range r.Advice {
		if i == tipsShown {
			fmt.Fprintf(t.w, "  and %d more\n", len(r.Advice)-tipsShown)
			break
		}
		gain := "  note"
		if tip.Gain > 0 {
			gain = fmt.Sprintf("%6s", Percent(tip.Share))
		}
		fmt.Fprintf(t.w, "  %s  %s: %s\n", gain, t.colour("1", tip.Field), tip.Text)
	}
}
