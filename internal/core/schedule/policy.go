package schedule

// Rank is where something stands among its like: what is lower, number by number, goes
// first.
type Rank [3]int64

// Policy says who goes first. It decides nothing about what can run where, and of equal
// ranks the older goes first. It must give the same rank for the same value.
type Policy struct {
	Leg    func(Leg) Rank    // among legs that wait
	Device func(Device) Rank // among devices that are idle
}

// InTurn is the policy that there is: runs in the order in which they were started, their
// legs in the order of their positions; devices that could serve little else first.
var InTurn = Policy{
	Leg:    func(l Leg) Rank { return Rank{l.Order.Run, l.Order.Leg} },
	Device: func(d Device) Rank { return Rank{int64(d.Worth)} },
}
