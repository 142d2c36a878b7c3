package boards

import "math"

// Histogram counts values in stretches of equal length that begin and end at round numbers: the first begins at low, and each is step long. Bins is about
// how many there are; 0: as many as the count of values asks for (Sturges, 1926), but not more than 40. There must be a value.
func Histogram(values []float64, bins int) (low, step float64, counts []int) {
	least, most := math.Inf(1), math.Inf(-1)
	for _, v := range values {
		least, most = min(least, v), max(most, v)
	}
	if bins <= 0 {
		bins = min(40, int(math.Ceil(math.Log2(float64(len(values)))))+1)
	}
	step = 1
	if most > least {
		if step = roundStep(most/float64(bins) - least/float64(bins)); step <= 0 || math.IsInf(step, 0) || math.IsNaN(step) {
			step = max(most/float64(bins)-least/float64(bins), math.SmallestNonzeroFloat64)
		}
	}
	low = math.Floor(least/step) * step
	counts = make([]int, min(max(int(math.Floor(most/step-low/step))+1, 1), 2*bins+2))
	for _, v := range values {
		counts[max(0, min(int(v/step-low/step), len(counts)-1))]++
	}
	return low, step, counts
}

// roundStep is the round length that is nearest above: 1, 2, 2.5 or 5 times a power of ten.
func roundStep(x float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(x)))
	for _, f := range []float64{1, 2, 2.5, 5} {
		if f*power >= x*(1-1e-9) {
			return f * power
		}
	}
	return 10 * power
}
