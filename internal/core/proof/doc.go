// Package proof judges readings: whether an instance is healthy, and whether a
// side is proven.
//
// Health is a judgement over several readings in a row, so that one slow answer
// does not take an instance down and one lucky one does not bring it up.
//
// The package is pure; package check makes the readings.
package proof
