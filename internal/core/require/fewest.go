package require

import (
	"slices"
	"strings"
)

// Fewest finds the smallest set of people whose approvals would meet every approvals requirement that is open, and
// the requirements that nobody's approval can meet. Where several sets are as small, the first by login is taken,
// those on standby last. Sets of more than six are found one by one, taking who helps most, and may then not be the
// smallest: exact is then false.
func (c *Case) Fewest() (logins []string, hopeless []string, exact bool) {
	var need []int
	type candidate struct {
		login string
		meets []int // places in need
	}
	byLogin := map[string]*candidate{}
	for _, p := range c.pools {
		q, pool := c.Outcomes[p.at], p.Pool
		if q.Holds() || q.Level != Required {
			continue
		}
		could := 0
		for _, person := range c.People.Among(pool.From) {
			login := person.Login
			approved := slices.ContainsFunc(c.approvals(), func(a approval) bool {
				return a.By == login &&
					c.discount(&a, pool) == counts
			})
			if approved || !c.mayApprove(login, person, pool) {
				continue
			}
			could++
			if byLogin[login] == nil {
				byLogin[login] = &candidate{login: login}
			}
			byLogin[login].meets = append(byLogin[login].meets, len(need))
		}
		if could < q.Need-q.Have {
			hopeless = append(hopeless, q.Title)
		}
		need = append(need, min(q.Need-q.Have, could))
	}
	var all []candidate
	for _, one := range byLogin {
		all = append(all, *one)
	}
	slices.SortFunc(all, func(a, b candidate) int {
		if x, y := c.People.Named(a.login).Standby, c.People.Named(b.login).Standby; x != y {
			if x {
				return 1
			}
			return -1
		}
		return strings.Compare(a.login, b.login)
	})
	meets := make([][]int, len(all))
	for i, one := range all {
		meets[i] = one.meets
	}
	chosen, exact := cover(need, meets)
	for _, i := range chosen {
		logins = append(logins, all[i].login)
	}
	slices.Sort(logins)
	return logins, hopeless, exact
}

// maxExact is the largest set searched for exactly.
const maxExact = 6

// cover chooses rows so that every need is met as often as asked, by as few rows as it can.
func cover(need []int, meets [][]int) (chosen []int, exact bool) {
	for size := 0; size <= min(maxExact, len(meets)); size++ {
		steps := 200_000
		if chosen, ok := pick(need, meets, 0, size, &steps); ok {
			return chosen, true
		}
		if steps <= 0 {
			break
		}
	}
	return greedy(need, meets), false
}

// pick tries every set of size rows from the row on that could still do.
func pick(need []int, meets [][]int, from, size int, steps *int) ([]int, bool) {
	*steps--
	most := 0
	for _, n := range need {
		most = max(most, n)
	}
	switch {
	case most == 0:
		return nil, true
	case most > size || len(meets)-from < size || *steps <= 0:
		return nil, false
	}
	for i := from; i < len(meets); i++ {
		left, helps := slices.Clone(need), false
		for _, n := range meets[i] {
			if left[n] > 0 {
				left[n]--
				helps = true
			}
		}
		if !helps {
			continue
		}
		if rest, ok := pick(left, meets, i+1, size-1, steps); ok {
			return append([]int{i}, rest...), true
		}
	}
	return nil, false
}

// greedy takes the row that meets most, again and again.
func greedy(need []int, meets [][]int) []int {
	left := slices.Clone(need)
	taken := make([]bool, len(meets))
	var chosen []int
	for {
		best, most := -1, 0
		for i, m := range meets {
			helps := 0
			for _, n := range m {
				if left[n] > 0 {
					helps++
				}
			}
			if !taken[i] && helps > most {
				best, most = i, helps
			}
		}
		if best < 0 {
			return chosen
		}
		taken[best] = true
		chosen = append(chosen, best)
		for _, n := range meets[best] {
			left[n] = max(0, left[n]-1)
		}
	}
}
