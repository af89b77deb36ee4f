package schema

// Property names what an object has, as the server writes it. An absent property is not
// the same as an empty one: nothing is kept for it.
type Property string

// Props are an object's properties.
type Props map[Property]string

// The properties that rules or drafts decide by. Others are only compared and shown.
const (
	Definition   Property = "definition"   // the text of a view, function, constraint, index …
	Comment      Property = "comment"      // on any object
	OwnedByRole  Property = "owner"        // the role that it belongs to
	Grants       Property = "grants"       // access privileges, in the server's notation
	Options      Property = "options"      // storage and other parameters, joined by ", "
	DataType     Property = "type"         // of a column or domain, with its modifiers
	Null         Property = "null"         // "no" for NOT NULL
	Default      Property = "default"      // an expression
	Generated    Property = "generated"    // the expression of a computed column
	Identity     Property = "identity"     // always, by default; AUTOINCREMENT
	Collated     Property = "collation"    // where it is not its type's
	Inherited    Property = "inherited"    // "yes": it comes from a parent table
	Inherits     Property = "inherits"     // parent tables, joined by ", "
	Partitioned  Property = "partitioned"  // the key: "RANGE (arrival)"
	PartitionOf  Property = "partition of" // the parent table
	Partition    Property = "partition"    // its bounds
	IdentityOf   Property = "identity of"  // the column of a sequence
	OwnedBy      Property = "owned by"     // the column that a sequence goes with
	Is           Property = "is"           // of a type: enum, domain, composite, range
	Labels       Property = "labels"       // of an enum, joined by ", "
	Domain       Property = "domain"       // the base type
	OnServer     Property = "server"       // of a foreign table
	ForeignTable Property = "foreign options"
	ToastOptions Property = "toast options"
	Tablespace   Property = "tablespace"
	InSchema     Property = "schema"     // of a published schema
	ForRole      Property = "role"       // of default privileges
	For          Property = "for"        // what default privileges are about
	OfTable      Property = "table"      // of a published table
	Attributes   Property = "attributes" // of a composite type
	Valid        Property = "valid"      // "no": a constraint that is not validated, an index that is broken

	// MariaDB's
	Security  Property = "security"  // of a view: as whom it runs
	Algorithm Property = "algorithm" // of a view
	Check     Property = "check"     // of a view: WITH CHECK OPTION
	SQLMode   Property = "sql mode"  // that a body was made with, and runs with, where it is not the usual one
	FiresAt   Property = "place"     // of a trigger: after which other one
)
