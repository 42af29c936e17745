// Package section reads a YAML file key by key, with every mistake in it, its place and what
// would be right: the plan's file, and in it the sections of those who know their own keys.
//
//	r := section.New("sailings.yaml", data)
//	r.Mapping(r.Tree(data), "the plan",
//		section.Need("service", section.Parsed(r, "service", &service, section.Word)))
//	if len(r.Problems.List) > 0 {
//		return r.Problems
//	}
package section
