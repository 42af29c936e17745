// Package people says who may do what to a service: rules of a plan about users of the keeper's machine and their Unix
// groups. It is pure, and knows nobody: who somebody is, is found out elsewhere.
package people
