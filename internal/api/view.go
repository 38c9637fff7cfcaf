package api

// FilterAttribute is something that a filter can ask about.
type FilterAttribute struct {
	Name      string   `json:"name" doc:"As it is written in a filter"`
	Label     string   `json:"label" doc:"In plain words"`
	Kind      string   `json:"kind" enum:"text,boolean,moment,number,day,choice"`
	Many      bool     `json:"many" doc:"There may be several values; one that fits is enough"`
	Operators []string `json:"operators"`
	Choices   []string `json:"choices,omitempty" doc:"Of a choice: what it can be, lowest first where it has an order"`
}

// View is a filter, columns and an order of a list, kept under a name.
type View struct {
	ID      string   `json:"id" doc:"A word for those that are built in"`
	Name    string   `json:"name"`
	List    string   `json:"list" enum:"groups,people,history"`
	Filter  string   `json:"filter"`
	Columns []string `json:"columns" doc:"Names of columns in their order; empty for what the list shows by itself"`
	Sort    string   `json:"sort" doc:"Empty for the list's own order"`
	Whose   string   `json:"whose" enum:"mine,administrators,built_in"`
	MadeBy  string   `json:"made_by,omitempty"`
	Version int      `json:"version,omitempty" doc:"The ETag of the view, as a number"`
}

// NewView is a view to keep.
type NewView struct {
	Name    string   `json:"name" minLength:"1" maxLength:"100"`
	List    string   `json:"list" enum:"groups,people,history"`
	Filter  string   `json:"filter,omitempty" maxLength:"4000"`
	Columns []string `json:"columns,omitempty" maxItems:"40" doc:"Names of columns in their order"`
	Sort    string   `json:"sort,omitempty" maxLength:"40"`
	Shared  bool     `json:"shared,omitempty" doc:"For all administrators"`
}
