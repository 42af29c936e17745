// Package weighing is the page of the route: its legs, what each of them would show and cost if the new
// side were bad, and the legs edited in place.
package weighing
