package api

import "vorrang/core/schema"

// MapColumn is a column of a table on a map.
type MapColumn struct {
	Name string      `json:"name"`
	Type string      `json:"type"`
	Key  string      `json:"key,omitempty" enum:"primary,foreign" description:"primary, if it is part of the primary key; else foreign, if it refers to another table."`
	What schema.What `json:"what,omitempty" description:"What a chosen difference did to it."`
}

// MapTable is a table on a map, with its place in pixels from the top left.
type MapTable struct {
	Name    string      `json:"name"`
	What    schema.What `json:"what,omitempty" description:"What a chosen difference did to it, or to what belongs to it."`
	Columns []MapColumn `json:"columns" nullable:"false" description:"Those that are drawn."`
	More    int         `json:"more,omitempty" description:"How many columns are not drawn."`
	X       float64     `json:"x"`
	Y       float64     `json:"y"`
	Width   float64     `json:"width"`
	Height  float64     `json:"height"`
}

// MapLink is a foreign key on a map.
type MapLink struct {
	Name string      `json:"name"`
	From string      `json:"from"`
	To   string      `json:"to"`
	What schema.What `json:"what,omitempty"`
	Path string      `json:"path" description:"As in the attribute d of an SVG path."`
}

// Map is a schema's tables and foreign keys, laid out.
type Map struct {
	Tables []MapTable `json:"tables" nullable:"false"`
	Links  []MapLink  `json:"links" nullable:"false"`
	Width  float64    `json:"width"`
	Height float64    `json:"height"`
}
