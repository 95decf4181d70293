package worlds

// byTicks makes a world one that numbers its steps: it steps as often as it sends. The server, and
// every view, tells all steps or every second or third; some views are ahead of the server, and
// some guess the next steps and tell them anew when they know.
func (w *world) byTicks(r *draw) {
	w.tells = w.rate / float64(1+r.IntN(3))
	for _, v := range w.views {
		v.lag, v.every, v.behind = 0, []int{1, 1, 2, 3}[r.IntN(4)], r.between(-0.05, 0.15)
		v.fps = w.rate / float64(v.every)
		if r.IntN(3) == 0 {
			v.back = 1 + r.IntN(5)
		}
		if r.IntN(4) == 0 { // it comes late
			v.from = r.between(1, 4)
		}
	}
}

// lines are all lines of traces that tell the state.
func (w *world) lines(r *draw) (lines []line) {
	if w.ticks {
		return w.ticking(r)
	}
	for at := 0.0; at < Length.Seconds(); at += 1 / w.tells {
		lines = append(lines, line{view: 0, at: at, moment: at})
	}
	for i, v := range w.views {
		for at := 0.3 + v.from; at < Length.Seconds(); at += 1 / v.fps {
			lines = append(lines, line{view: i + 1, at: at, moment: at})
		}
	}
	return lines
}

// ticking is lines of a world that numbers its steps.
func (w *world) ticking(r *draw) (lines []line) {
	end := int64(Length.Seconds() * w.rate)
	for n := int64(0); n < end; n += int64(w.rate/w.tells + 0.5) {
		lines = append(lines, line{view: 0, at: float64(n) / w.rate, moment: float64(n) / w.rate, tick: n})
	}
	for i, v := range w.views {
		known := int64(0)
		first := 6 + int64(v.from*w.rate)/6*6 // so that server and view have steps in common
		for n := first; n < end; n += int64(v.every) {
			at := float64(n)/w.rate + v.behind + r.between(0, 0.3/w.rate)
			tell := func(n int64, guess int64) {
				lines = append(lines, line{view: i + 1, at: at, moment: float64(n) / w.rate, tick: n, guess: int(guess)})
			}
			if v.back > 0 && known > 0 && n-known <= int64(v.back*v.every) && n+int64(v.every) < end && r.IntN(4) == 0 {
				tell(n, n-known)
				continue
			}
			for m := known + int64(v.every); known > 0 && m < n; m += int64(v.every) { // what was guessed, as it was
				tell(m, 0)
			}
			tell(n, 0)
			known = n
		}
	}
	return lines
}
