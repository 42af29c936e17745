// Package section reads a YAML file key by key, with every mistake in it, its place and what
// would be right: the plan's file, and in it the sections of those who know their own keys.
package section
