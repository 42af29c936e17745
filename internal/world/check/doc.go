// Package check asks instances, and what they depend on, whether they are well.
//
//	t := check.Target{From: place.Local{}, Values: instance.Values(service)}
//	r := t.Read(ctx, plan.Main().Smoke[0]) // one reading
//	result := t.Judge(ctx, c)              // as many as its thresholds need
//
//	m := check.NewMonitor(plan, secrets, stacks.From)
//	conditions := m.Round(ctx, instances) // health, again and again
//
// A kind of check is a type in package plan and a method of [Target] here, which
// says what was wanted and what came. Checks of instances go to their own
// addresses, past every front and cache; checks of dependencies go out from where
// an instance stands. The judgement itself is package proof's.
package check
