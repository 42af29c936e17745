// Package drawing makes drawings for files: lines, areas, marks and words on a sheet, which is written as SVG or as PDF
// by the ending of the file's name. Both have a title and a description for those who cannot see them.
//
// Lengths are points, of which there are 72 to the inch; a sheet's origin is its upper left corner. The [Ink]s are told
// apart by how dark they are as well, so that a drawing can be read in grey.
//
// A sheet is for one goroutine at a time.
package drawing
