package replay

// minimise finds a subset of 0..n-1 that still shows something, of which no single
// part can be left out: delta debugging, the algorithm ddmin of Zeller and Hildebrandt
// (IEEE Transactions on Software Engineering 28, 2002). All n together must show it
// and nothing must not. first is asked for the first of several subsets that shows it,
// or -1.
func minimise(n int, first func(sets [][]int) (int, error)) ([]int, error) {
	set := make([]int, n)
	for i := range set {
		set[i] = i
	}
	for parts := 2; len(set) > 1; {
		chunks := split(set, parts)
		sets := chunks
		if parts > 2 { // of two, each is the other's complement
			for i := range chunks {
				sets = append(sets, complement(chunks, i))
			}
		}
		i, err := first(sets)
		switch {
		case err != nil:
			return set, err
		case i >= len(chunks):
			set, parts = sets[i], max(parts-1, 2)
		case i >= 0:
			set, parts = sets[i], 2
		case parts >= len(set):
			return set, nil
		default:
			parts = min(2*parts, len(set))
		}
	}
	return set, nil
}

func split(set []int, parts int) (chunks [][]int) {
	for i := range parts {
		chunks = append(chunks, set[i*len(set)/parts:(i+1)*len(set)/parts])
	}
	return chunks
}

func complement(chunks [][]int, without int) (rest []int) {
	for i, chunk := range chunks {
		if i != without {
			rest = append(rest, chunk...)
		}
	}
	return rest
}
