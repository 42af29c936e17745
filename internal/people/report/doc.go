// Package report draws charts for files: SVG and PDF.
//
//	err := report.Split(file, tried, 25*split.Percent) // the format by the file's ending
//
// What it draws has been computed elsewhere.
package report
