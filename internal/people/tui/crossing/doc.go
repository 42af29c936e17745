// Package crossing is the main view: where is this release, and is it all right?
//
//	m := crossing.New(theme.New(true)).SetSize(142, 38).SetSnapshot(snapshot, now)
//	m.View()
//
// It turns a snapshot, the time and the ghost of the bob into text. Left is blue,
// right is green, time runs down the middle. It does nothing else: keys are the
// root's.
package crossing
