// Package report draws charts for files: SVG and PDF, by the ending of the file's name. What it draws has been computed
// elsewhere.
package report
