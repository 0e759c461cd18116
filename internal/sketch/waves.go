package sketch

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/signal"
)

// moments are mean and standard deviation.
func moments(x []float64) (mean, spread float64) {
	for _, v := range x {
		mean += v
	}
	mean /= float64(len(x))
	for _, v := range x {
		spread += (v - mean) * (v - mean)
	}
	return mean, math.Sqrt(spread / float64(max(1, len(x)-1)))
}

// steps are the differences between values that follow each other at the interval: where a message is
// missing there is none.
func (r *run) steps(every float64) (list []float64) {
	for i := 1; i < len(r.x); i++ {
		if every <= 0 || math.Abs(r.at[i]-r.at[i-1]-every) < every/2 {
			list = append(list, r.x[i]-r.x[i-1])
		}
	}
	return list
}

// signal is what makes such numbers.
func (f *fitter) signal(name string, list []observed, digits int, whole bool) string {
	all := runs(list)
	n, longest := 0, 0
	for i := range all {
		n, longest = n+len(all[i].x), max(longest, len(all[i].x))
	}
	unit := math.Pow10(-digits)
	of := fmt.Sprintf("%s of %s", plural(n, "value"), plural(len(all), "device"))
	if longest >= 3 {
		if spec := f.counter(all, whole); spec != "" {
			return spec + "   # " + of
		}
	}
	if whole && differ(list) <= mostStates/2 {
		if spec := f.words(name, list); spec != "" {
			return spec
		}
	}
	if longest < leastFitted {
		low, high, _, _ := extent(list)
		return fmt.Sprintf("{signal: walk, low: %s, high: %s, step: %s, round: %d}   # %s: too few to say more", plainNumber(low),
			plainNumber(high), figures((high-low)/20, 3), digits, of)
	}
	if spec := f.total(name, all, digits, whole); spec != "" {
		return spec + "   # " + of
	}
	if spec, fits := f.trend(all, unit, digits); spec != "" {
		return spec + fmt.Sprintf("   # %s; a straight line tells %s%% of it", of, figures(100*fits, 3))
	}
	// A level of its own for each device?
	base, middle := f.levels(name, all, digits, unit)
	if spec, fits := f.wave(all, middle, base, digits); spec != "" {
		what := "a wave tells"
		if strings.Contains(spec, "swell") {
			what = "waves of about this period tell"
		}
		return spec + fmt.Sprintf("   # %s; %s %s%% of it", of, what, figures(100*fits, 3))
	}
	return f.chance(name, list, all, base, middle, digits, whole, of)
}

// counter is a whole number that grows by the same step, perhaps round and round; empty: it is none.
func (f *fitter) counter(all []run, whole bool) string {
	if !whole {
		return ""
	}
	counts, pairs := map[float64]int{}, 0
	least, low, high := math.Inf(1), math.Inf(1), math.Inf(-1)
	firsts := map[float64]bool{}
	for i := range all {
		r := &all[i]
		for k := range r.x {
			low, high = min(low, r.x[k]), max(high, r.x[k])
			if k > 0 {
				counts[r.x[k]-r.x[k-1]]++
				pairs++
			}
		}
		firsts[r.x[0]] = true
		least = min(least, r.x[0])
	}
	step := 0.0
	for d, n := range counts {
		if d > 0 && (n > counts[step] || n == counts[step] && d < step) {
			step = d
		}
	}
	if step == 0 || pairs < 2 {
		return ""
	}
	begins := 0 // again, of those that count to a bound
	for d, n := range counts {
		switch {
		case d > 0 && math.Mod(d, step) == 0 && d < 100*step: // between them messages are missing
		case d < 0:
			begins += n
		default:
			return ""
		}
	}
	if 2*counts[step] < pairs || begins*5 > pairs {
		return ""
	}
	spec := fmt.Sprintf("{signal: counter, from: %s, step: %s", plainNumber(least), plainNumber(step))
	for _, bits := range []int{8, 16, 32} {
		if size := math.Exp2(float64(bits)); begins > 0 && high < size && high > size-20*step {
			spec = fmt.Sprintf("{signal: counter, from: %s, step: %s, wrap: %s", plainNumber(low), plainNumber(step), plainNumber(size-low))
			begins = 0
		}
	}
	if begins > 0 {
		spec += fmt.Sprintf(", reset: %s%%", figures(100*float64(begins)/float64(pairs), 2))
	}
	return spec + "}"
}

// total is a number that never falls and grows by steps that differ: of it and of its step.
func (f *fitter) total(name string, all []run, digits int, whole bool) string {
	var list []observed
	low, high := math.Inf(1), math.Inf(-1)
	for i := range all {
		low, high = min(low, all[i].x[0]), max(high, all[i].x[0])
		for _, d := range all[i].steps(f.every) {
			if d < 0 {
				return ""
			}
			list = append(list, observed{v: d, device: all[i].device})
		}
	}
	steps := make([]float64, len(list))
	for i, o := range list {
		steps[i] = o.v.(float64)
	}
	if len(steps) < leastFitted {
		return ""
	}
	mean, spread := moments(steps)
	if spread < 0.05*mean || mean == 0 || float64(len(steps)) < 4*(1+spread*spread/(mean*mean)) {
		return ""
	}
	kind, _ := scatter(steps, digits, whole)
	step := f.name(name + "_step")
	f.fields = append(f.fields, step+": "+kind)
	from := plainNumber(round(low, digits))
	if high > low {
		from = f.addProperty(name+"_from", fmt.Sprintf("{uniform: %s to %s, round: %d}", plainNumber(low), plainNumber(high), digits))
	}
	return fmt.Sprintf("{formula: %s, round: %d}", quoted(fmt.Sprintf("(previous.%s ?? %s) + %s", name, from, step)), digits)
}

// trend is an even way up or down, and how much of what changes it tells.
func (f *fitter) trend(all []run, unit float64, digits int) (string, float64) {
	var sumX, sumT, count float64
	for i := range all {
		for k := range all[i].x {
			sumX, sumT, count = sumX+all[i].x[k], sumT+all[i].at[k]-all[i].at[0], count+1
		}
	}
	// The slope within devices; each begins where it does.
	var tt, xt, xx, span float64
	start := make([]float64, 0, len(all))
	for i := range all {
		r := &all[i]
		mt, _ := moments(r.at)
		mx, _ := moments(r.x)
		for k := range r.x {
			t, x := r.at[k]-mt, r.x[k]-mx
			tt, xt, xx = tt+t*t, xt+x*t, xx+x*x
		}
		span = max(span, r.at[len(r.at)-1]-r.at[0])
	}
	if tt == 0 || xx == 0 {
		return "", 0
	}
	slope := xt / tt
	var left, follows, n float64
	for i := range all {
		r := &all[i]
		mt, _ := moments(r.at)
		mx, _ := moments(r.x)
		before := 0.0
		for k := range r.x {
			e := r.x[k] - mx - slope*(r.at[k]-mt)
			left += e * e
			follows += e * before
			before = e
			n++
		}
		start = append(start, mx-slope*(mt-r.at[0]))
	}
	fits := 1 - left/xx
	noise := math.Sqrt(left / n)
	if fits < 0.9 || noise > 1.5*unit && follows/max(left, 1e-300) > 0.5 || math.Abs(slope)*span < 5*unit {
		return "", 0
	}
	mean, spread := moments(start)
	from := plainNumber(round(mean, digits) + 0)
	if len(start) > 1 && spread > 2*max(noise, unit) {
		from = f.addProperty("level_from", fmt.Sprintf("{uniform: %s to %s, round: %d}", plainNumber(round(slices.Min(start), digits+1)),
			plainNumber(round(slices.Max(start), digits+1)), digits+1))
	}
	more := ""
	if noise > unit {
		more = ", noise: " + figures(noise, 2)
	}
	if slope < 0 {
		to := "0"
		if mean+slope*span < 0 {
			to = figures(mean+slope*span, 6)
		}
		return fmt.Sprintf("{signal: drain, from: %s, per_hour: %s, to: %s%s, round: %d}", from, figures(-slope*3600, 4), to, more, digits), fits
	}
	return fmt.Sprintf("{formula: %s%s, round: %d}", quoted(fmt.Sprintf("%s + %s * elapsed / 3600", from, figures(slope*3600, 4))), more, digits), fits
}

// levels tells whether each device has a level of its own: the property that it is, or the mean of
// all; and the values about which they move.
func (f *fitter) levels(name string, all []run, digits int, unit float64) (base string, middle []float64) {
	var means, within []float64
	total := 0.0
	for i := range all {
		m, s := moments(all[i].x)
		means, within = append(means, m), append(within, s)
		total += m * float64(len(all[i].x))
	}
	n := 0
	for i := range all {
		n += len(all[i].x)
	}
	mean := total / float64(n)
	if len(all) > 1 {
		_, between := moments(means)
		inside, _ := moments(within)
		if between > max(inside, unit) {
			low, high := slices.Min(means), slices.Max(means)
			line := fmt.Sprintf("{uniform: %s to %s, round: %d}", plainNumber(round(low, digits)), plainNumber(round(high, digits)), digits)
			return f.addProperty(name+"_level", line), means
		}
	}
	middle = make([]float64, len(all))
	for i := range middle {
		middle[i] = mean
	}
	return "", middle
}

// Bounds of the search for waves: values of a device, and devices, that it looks at.
const (
	mostSearched = 1500
	mostDevices  = 4
)

// wave is a regular wave, and how much of what changes it tells.
func (f *fitter) wave(all []run, middle []float64, base string, digits int) (string, float64) {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return len(all[order[a]].x) > len(all[order[b]].x) })
	order = order[:min(len(order), mostDevices)]
	var runs []run
	span, n := 0.0, 0
	for _, i := range order {
		r := all[i]
		r.x, r.at = r.x[:min(len(r.x), mostSearched)], r.at[:min(len(r.at), mostSearched)]
		if len(r.x) < 2*leastFitted {
			continue
		}
		m, _ := moments(r.x)
		x := make([]float64, len(r.x))
		for k := range x {
			x[k] = r.x[k] - m
		}
		r.x = x
		runs = append(runs, r)
		span = max(span, r.at[len(r.at)-1]-r.at[0])
		n = max(n, len(r.x))
	}
	if len(runs) == 0 || span == 0 {
		return "", 0
	}
	total := 0.0
	for _, r := range runs {
		for _, x := range r.x {
			total += x * x
		}
	}
	power := func(freq float64) (p float64) {
		for _, r := range runs {
			_, _, e := sine(&r, freq)
			p += e
		}
		return p / total
	}
	// From one and a half waves in all to two values a wave, eight steps for each wave of difference.
	step := 1 / span / 8
	var best, at float64
	var spectrum []float64
	for freq := 1.5 / span; freq < float64(n)/span/2; freq += step {
		p := power(freq)
		spectrum = append(spectrum, p)
		if p > best {
			best, at = p, freq
		}
	}
	if at == 0 {
		return "", 0
	}
	for range 30 { // finer and finer
		for _, freq := range []float64{at - step/2, at + step/2} {
			if p := power(freq); p > best {
				best, at = p, freq
			}
		}
		step /= 1.5
	}
	_, scale := moments(scaled(runs))
	if best > 0.7 {
		// The same phase everywhere?
		var phases [][2]float64
		height, similar := 0.0, [2]float64{}
		for _, r := range runs {
			a, b, _ := sine(&r, at)
			amp := math.Hypot(a, b)
			height += amp / float64(len(runs))
			phases = append(phases, [2]float64{a / amp, b / amp})
			similar[0], similar[1] = similar[0]+a/amp, similar[1]+b/amp
		}
		together := math.Hypot(similar[0], similar[1]) / float64(len(phases))
		period := 1 / at
		level := base
		if level == "" {
			level = near(middle[0], height)
		}
		if noise := scale * math.Sqrt(1-best); together > 0.95 {
			// a cos + b sin is highest at the phase; time zero is the first message.
			peak := math.Mod(math.Atan2(similar[1], similar[0])/(2*math.Pi)*period+period, period)
			more := ""
			if noise > max(math.Pow10(-digits), 0.01*height) { // less is the network's
				more = ", noise: " + figures(noise, 2)
			}
			if math.Abs(period-86400) < 86400*0.05 && base == "" && span > 0.7*86400 {
				day := f.origin.Add(time.Duration(peak * 1e9)).UTC()
				return fmt.Sprintf("{signal: daily, low: %s, high: %s, peak: %q%s, round: %d}", near(middle[0]-height, height),
					near(middle[0]+height, height), day.Format("15:04"), more, digits), best
			}
			// As many figures as the time that was heard tells. A tide is highest at its phase and whole
			// periods after 1970.
			period, _ = strconv.ParseFloat(figures(period, 3+max(0, int(math.Log10(span/period)))), 64)
			since := math.Mod(float64(f.origin.UnixMicro())/1e6+peak, period)
			return fmt.Sprintf("{signal: tide, range: %s, period: %s, mean: %s, phase: %s%s, round: %d}", figures(2*height, 4),
				duration(period, 12), level, duration(since, 5), more, digits), best
		}
		if base == "" {
			phase := f.addProperty("phase", fmt.Sprintf("{uniform: 0 to %s, round: 3}", figures(2*math.Pi, 5)))
			return fmt.Sprintf("{formula: %s, round: %d}", quoted(fmt.Sprintf("%s + %s * sin(2 * 3.14159265 * elapsed / %s + %s)", level,
				figures(height, 4), figures(period, 6), phase)), digits), best
		}
	}
	// A band of waves: what lies within a third of the middle.
	sum := 0.0
	for _, p := range spectrum {
		sum += p
	}
	if sum > 0 && len(spectrum) > 60 {
		inside, weighted := 0.0, 0.0
		for i, p := range spectrum {
			if freq := 1.5/span + float64(i)/span/8; freq > at*0.55 && freq < at*1.8 {
				inside, weighted = inside+p, weighted+p*freq
			}
		}
		center := weighted / inside
		if inside/sum > 0.85 && center > 6/span && center*f.every < 0.4 {
			level := base
			if level == "" {
				level = near(middle[0], scale)
			}
			return fmt.Sprintf("{signal: swell, height: %s, period: %s, mean: %s, round: %d}", figures(4*scale, 3), duration(1/center, 2), level, digits), inside / sum
		}
	}
	return "", 0
}

func scaled(runs []run) (all []float64) {
	for _, r := range runs {
		all = append(all, r.x...)
	}
	return all
}

// sine is the wave of a frequency that is nearest to some values, a cos + b sin, and its energy.
func sine(r *run, freq float64) (a, b, energy float64) {
	var cc, ss, cs, xc, xs float64
	w := 2 * math.Pi * freq
	for k := range r.x {
		s, c := math.Sincos(w * r.at[k])
		cc, ss, cs = cc+c*c, ss+s*s, cs+c*s
		xc, xs = xc+r.x[k]*c, xs+r.x[k]*s
	}
	det := cc*ss - cs*cs
	if det < 1e-9 {
		return 0, 0, 0
	}
	a, b = (xc*ss-xs*cs)/det, (xs*cc-xc*cs)/det
	return a, b, a*xc + b*xs
}

// scatter is the signal of numbers that do not follow each other, and how far their distributions
// are apart.
func scatter(x []float64, digits int, whole bool) (spec string, apart float64) {
	mean, spread := moments(x)
	low, high := slices.Min(x), slices.Max(x)
	if low == high {
		return plainNumber(low), 0
	}
	edge := (high - low) / float64(len(x)) // what lies beyond those that were seen, on average
	candidates := []string{fmt.Sprintf("{signal: normal, mean: %s, spread: %s, round: %d}", near(mean, spread), figures(spread, 3), digits)}
	args := []signal.Args{{"mean": mean, "spread": spread}}
	names := []string{"normal"}
	if whole {
		candidates = append(candidates, fmt.Sprintf("{signal: whole, low: %s, high: %s}", plainNumber(low), plainNumber(high)))
		args, names = append(args, signal.Args{"low": low, "high": high}), append(names, "whole")
	} else {
		low, high = round(low-edge, digits), round(high+edge, digits)
		candidates = append(candidates, fmt.Sprintf("{signal: uniform, low: %s, high: %s, round: %d}", plainNumber(low), plainNumber(high), digits))
		args, names = append(args, signal.Args{"low": low, "high": high}), append(names, "uniform")
	}
	apart = 2
	for i := range candidates {
		made := makes(names[i], args[i], len(x), digits)
		if d := distance(x, made); d < apart {
			spec, apart = candidates[i], d
		}
	}
	return spec, apart
}

// makes are values that a signal makes.
func makes(name string, args signal.Args, n, digits int) []float64 {
	found, _ := signal.Find(name)
	s, err := found.Make(args)
	if err != nil {
		return nil
	}
	n = min(max(n, 500), 5000)
	list := make([]float64, n)
	for i := range list {
		list[i] = round(s.At(signal.Moment{Key: 1, Seq: uint64(i + 1)}).Float(), digits)
	}
	return list
}

// distance is how far two distributions are apart, from 0 to 1 (the statistic of Kolmogorov and
// Smirnov for two samples).
func distance(a, b []float64) (most float64) {
	if len(a) == 0 || len(b) == 0 {
		return 1
	}
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	for i, j := 0, 0; i < len(a) && j < len(b); {
		x := min(a[i], b[j])
		for i < len(a) && a[i] <= x {
			i++
		}
		for j < len(b) && b[j] <= x {
			j++
		}
		most = max(most, math.Abs(float64(i)/float64(len(a))-float64(j)/float64(len(b))))
	}
	return most
}

// chance is the signal of numbers that chance makes: each for itself, or a walk.
func (f *fitter) chance(name string, list []observed, all []run, base string, middle []float64, digits int, whole bool, of string) string {
	var follows, square, pairs float64
	var apart, increments []float64
	for i := range all {
		r := &all[i]
		for k := range r.x {
			x := r.x[k] - middle[i]
			apart = append(apart, x)
			if k > 0 && (f.every <= 0 || math.Abs(r.at[k]-r.at[k-1]-f.every) < f.every/2) {
				before := r.x[k-1] - middle[i]
				follows, square, pairs = follows+x*before, square+before*before, pairs+1
				increments = append(increments, x-before)
			}
		}
	}
	if pairs < leastFitted || square == 0 {
		return f.played(name, list, "")
	}
	keep := follows / square
	_, spread := moments(apart)
	if keep < max(0.15, 3/math.Sqrt(pairs)) {
		values := make([]float64, 0, len(apart))
		for i := range all {
			values = append(values, all[i].x...)
		}
		if base != "" {
			_, inside := moments(apart)
			return fmt.Sprintf("{signal: normal, mean: %s, spread: %s, round: %d}   # %s", base, figures(inside, 3), digits, of)
		}
		spec, d := scatter(values, digits, whole)
		if d > mostDistance+1.36/math.Sqrt(float64(len(values))) && len(values) >= 50 {
			return f.played(name, list, fmt.Sprintf("%s is as near as a signal comes, and %.0f%% off", strings.Fields(spec)[1], 100*d))
		}
		return fmt.Sprintf("%s   # %s; distributions at most %.0f%% apart", spec, of, 100*d)
	}
	// What is seen of the pull is too much, the more so the shorter the runs are (Marriott and Pope, 1954).
	keep = min(1, keep+(1+3*keep)/(pairs/float64(len(all))))
	_, step := moments(increments)
	unit := math.Pow10(-digits)
	// The steps of a walk vary by 2 step²/(1+keep), and rounding adds a sixth of its unit squared.
	walk := math.Sqrt(max(0, step*step-unit*unit/6) * (1 + keep) / 2)
	if walk == 0 {
		return f.played(name, list, "it moves by no more than it is rounded")
	}
	args := signal.Args{"step": walk, "pull": min(0.99, 1-keep), "start": 0.0}
	found, _ := signal.Find("walk")
	made := 1.0
	if s, err := found.Make(args); err == nil {
		var synthetic []float64
		last := 0.0
		for i := range min(5000, max(500, len(increments))) {
			x := round(s.At(signal.Moment{Key: 7, Seq: uint64(i + 1)}).Float(), digits)
			if i > 0 {
				synthetic = append(synthetic, x-last)
			}
			last = x
		}
		made = distance(increments, synthetic)
	}
	if made > mostDistance+1.36/math.Sqrt(float64(len(increments))) && len(increments) >= 50 {
		return f.played(name, list, fmt.Sprintf("its steps are %.0f%% off those of a walk", 100*made))
	}
	bounds := ""
	start := base
	if base == "" {
		low, high := slices.Min(apart)+middle[0], slices.Max(apart)+middle[0]
		start = near(middle[0], spread)
		bounds = fmt.Sprintf(", low: %s, high: %s", plainNumber(round(low, digits)), plainNumber(round(high, digits)))
	}
	return fmt.Sprintf("{signal: walk, start: %s, step: %s, pull: %s%%%s, round: %d}   # %s; steps at most %.0f%% apart", start, figures(walk, 3),
		figures(100*min(0.99, max(0, 1-keep)), 2), bounds, digits, of, 100*made)
}
