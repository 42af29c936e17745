// Package trial tries a split key on requests that were really made: which share it
// would have reached, how evenly, how many clients it would have split, and how many
// would change sides at the next leg.
//
// Its memory is bounded however long the log: windows of time are joined as it grows,
// and of very many clients a sample is kept, whose error is said.
package trial
