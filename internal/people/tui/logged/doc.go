// Package logged is the page of the logbook: a row for each crossing of the service and for what was done outside of
// them, the newest first, with what is usual, and what stands out in the one at the cursor.
package logged
