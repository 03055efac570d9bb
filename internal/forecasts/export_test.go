package forecasts

// What the tests of this room look at besides.
const (
	MostKept = mostKept
	Kept     = kept
)

var Past = past
