package findings

import (
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// inTree visits all nodes of a kind below a node, in no order. The grammar bounds how
// deep a tree is.
func inTree[T proto.Message](below proto.Message, visit func(T)) {
	if below == nil || !below.ProtoReflect().IsValid() {
		return
	}
	if node, is := below.(T); is {
		visit(node)
	}
	below.ProtoReflect().Range(func(field protoreflect.FieldDescriptor, value protoreflect.Value) bool {
		switch {
		case field.Message() == nil:
		case field.IsList():
			for i := range value.List().Len() {
				inTree(value.List().Get(i).Message().Interface(), visit)
			}
		default:
			inTree(value.Message().Interface(), visit)
		}
		return true
	})
}
