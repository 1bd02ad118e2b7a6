package cover

import "slices"

// Constructions of covering arrays, for factors that no rule names. A cell that a construction
// leaves open, since its factor has fewer levels, is Any.

// design is an array of rows by columns with symbols 0..q-1.
type design struct {
	q    int
	rows [][]int
}

// designs gives those that are worth a try for factors with these levels (largest first) at a
// strength: each serves some of the factors at the front, or such as have few enough levels.
func designs(levels []int, strength int) []design {
	var out []design
	switch most := levels[0]; {
	case strength == 2 && most == 2:
		return []design{binary(len(levels))}
	case strength == 2:
		for q := 2; q <= 64; q++ {
			if k := len(fitting(levels, q)); isPrimePower(q) && k > 1 && q <= 2*most && (q >= most || k > 2) {
				if d := pairs(q, k); len(d.rows) <= 4*most*most+40 {
					out = append(out, d)
				}
			}
		}
	case strength == 3:
		for q := 2; q <= 16; q++ {
			if isPrimePower(q) && q >= levels[min(2, len(levels)-1)] && q <= most+2 {
				out = append(out, triples(q))
			}
		}
	}
	return out
}

// fitting gives the positions of levels that q symbols are enough for.
func fitting(levels []int, q int) (out []int) {
	for i, l := range levels {
		if l <= q {
			out = append(out, i)
		}
	}
	return out
}

// binary covers all pairs of k factors of two levels in as few rows as can be: columns are sets
// of one size, which all meet, beside a row of zeros (Kleitman and Spencer, "Families of
// k-independent sets", Discrete Mathematics 6, 1973; Katona, Periodica Math. Hung. 3, 1973).
func binary(k int) design {
	n := 4
	for choose(n-1, (n+1)/2) < k {
		n++
	}
	rows := make([][]int, n)
	for i := range rows {
		rows[i] = make([]int, k)
	}
	set := make([]int, (n+1)/2) // positions among the n-1 rows after the first
	for i := range set {
		set[i] = i
	}
	for column := range k {
		for _, r := range set {
			rows[1+r][column] = 1
		}
		at := len(set) - 1
		for at >= 0 && set[at] == n-1-len(set)+at {
			at--
		}
		if at < 0 {
			break
		}
		set[at]++
		for i := at + 1; i < len(set); i++ {
			set[i] = set[i-1] + 1
		}
	}
	return design{2, rows}
}

func choose(n, k int) int {
	out := 1
	for i := range k {
		if out = out * (n - i) / (i + 1); out > 1<<30 {
			return out
		}
	}
	return out
}

// pairs covers all pairs of k factors of q levels, q a prime power: the orthogonal array of
// lines over the field (Bose, Sankhya 3, 1938) for up to q+1, and its products with itself for
// more, q²-q rows for each (Stevens and Mendelsohn, "New recursive methods for transversal
// covers", J. Combin. Designs 7, 1999).
func pairs(q, k int) design {
	f := newField(q)
	base := make([][]int, 0, q*q)
	for x := range q { // columns: the slopes m, mx+y; and x itself. The rows of x = 0 come first
		for y := range q {
			row := make([]int, q+1)
			for m := range q {
				row[m] = f.add[f.mul[m][x]][y]
			}
			row[q] = x
			base = append(base, row)
		}
	}
	rows := base
	for len(rows[0]) < k {
		rows = product(rows, base, q)
	}
	for i := range rows {
		rows[i] = rows[i][:min(k, len(rows[i]))]
	}
	return design{q, rows}
}

// product repeats an array for each slope of the base, and adds what of the base differs between
// slopes; one more column is the base's last.
func product(a, base [][]int, q int) [][]int {
	var out [][]int
	for _, row := range a {
		wide := make([]int, 0, len(row)*q+1)
		for range q {
			wide = append(wide, row...)
		}
		out = append(out, append(wide, 0))
	}
	for _, row := range base[q:] {
		wide := make([]int, 0, len(a[0])*q+1)
		for m := range q {
			for range a[0] {
				wide = append(wide, row[m])
			}
		}
		out = append(out, append(wide, row[q]))
	}
	return out
}

// triples covers all triples of q+1 factors of q levels: polynomials of degree 2, their values at
// each point and their leading coefficient (Bush, "Orthogonal arrays of index unity", Ann. Math.
// Statist. 23, 1952).
func triples(q int) design {
	f := newField(q)
	var rows [][]int
	for a := range q {
		for b := range q {
			for c := range q {
				row := make([]int, q+1)
				for x := range q {
					row[x] = f.add[f.add[f.mul[a][f.mul[x][x]]][f.mul[b][x]]][c]
				}
				row[q] = a
				if q%2 == 0 { // the nucleus: one more column, for fields in which 2 is 0
					row = append(row, b)
				}
				rows = append(rows, row)
			}
		}
	}
	return design{q, rows}
}

// field is a finite field as its tables.
type field struct{ add, mul [][]int }

// factorPower gives p and n of q = pⁿ, 0 where q is none.
func factorPower(q int) (p, n int) {
	for p = 2; p <= q; p++ {
		if q%p == 0 {
			for n = 0; q%p == 0; n++ {
				q /= p
			}
			if q == 1 {
				return p, n
			}
			return 0, 0
		}
	}
	return 0, 0
}

func isPrimePower(q int) bool {
	p, _ := factorPower(q)
	return p != 0
}

// newField makes the field of q elements: numbers are polynomials by their digits to base p, and
// products are taken modulo the first monic polynomial that leaves no product of two others 0.
func newField(q int) field {
	p, n := factorPower(q)
	digits := func(x int) []int {
		out := make([]int, n)
		for i := range out {
			out[i], x = x%p, x/p
		}
		return out
	}
	number := func(d []int) (x int) {
		for i := n - 1; i >= 0; i-- {
			x = x*p + d[i]
		}
		return x
	}
	table := func(of func(a, b []int) []int) [][]int {
		out := make([][]int, q)
		for a := range out {
			out[a] = make([]int, q)
			for b := range out[a] {
				out[a][b] = number(of(digits(a), digits(b)))
			}
		}
		return out
	}
	f := field{add: table(func(a, b []int) []int {
		for i := range a {
			a[i] = (a[i] + b[i]) % p
		}
		return a
	})}
	for low := range q { // xⁿ = -(the digits of low)
		modulus := digits(low)
		f.mul = table(func(a, b []int) []int {
			wide := make([]int, 2*n)
			for i := range a {
				for j := range b {
					wide[i+j] = (wide[i+j] + a[i]*b[j]) % p
				}
			}
			for i := 2*n - 1; i >= n; i-- {
				for j := range n {
					wide[i-n+j] = (wide[i-n+j] + (p-modulus[j])*wide[i]) % p
				}
				wide[i] = 0
			}
			return wide[:n]
		})
		if !slices.ContainsFunc(f.mul[1:], func(row []int) bool { return slices.Contains(row[1:], 0) }) {
			break
		}
	}
	return f
}
