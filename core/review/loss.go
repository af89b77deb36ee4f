package review

// Loss is a statement that takes rows or values away for good.
type Loss struct {
	Line int    `json:"line"`
	What string `json:"what" description:"Such as: drops the column vessel.draught_cm."`
}
