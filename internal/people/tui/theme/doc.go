// Package theme holds every style of the screens, for dark and for light
// terminals. No colour is named anywhere else.
//
// Colour never carries a meaning alone: position and letters say the same.
package theme
