// Package secret reads the secrets that a plan names, puts them where they are
// used, and takes them out of whatever is shown, recorded or said.
//
//	values, err := secret.Read(plan.Secrets)
//	url := values.Expand("postgres://fares:{secret fares}@db/fares", url.PathEscape)
//	said := values.Hide(err.Error())
//
// It keeps nothing on disk, and it does not guard the memory of the process.
package secret
