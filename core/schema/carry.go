package schema

// Carried is what a schema should be after a deployment: what was known before
// it, with all that the deployment changed and nothing else. before and after are
// what was there when it began and when it ended. What differed already when it
// began still differs from the result.
func Carried(known, before, after Schema) Schema {
	was, is := ByKey(before), ByKey(after)
	var objects []Object
	for _, o := range known.Objects {
		old, there := was[o.Key()]
		now, still := is[o.Key()]
		switch {
		case !there && !still: // it was missing, and nobody made it
			objects = append(objects, o)
		case there && still:
			now.Props = apply(o.Props, Changes(old.Props, now.Props))
			objects = append(objects, now)
		}
	}
	for _, o := range after.Objects {
		if _, there := was[o.Key()]; !there {
			objects = append(objects, o)
		}
	}
	return New(objects, after.Uncovered)
}

func apply(props Props, list []Change) Props {
	result := cloned(props)
	for _, c := range list {
		if result[c.Name] = c.After; c.After == "" {
			delete(result, c.Name)
		}
	}
	return result
}
