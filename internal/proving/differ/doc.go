// Package differ gathers what can be seen of both sides, and compares it.
//
// Configuration files in YAML, JSON, TOML, INI or as a list of variables are
// compared key by key, all others line by line. What a plan's placeholders stand
// for, such as an instance's own address, is no difference. The judgement on what
// was meant is package difference's.
package differ
