package tui

import (
	"strings"
	"unicode"

	tea "charm.land/bubbletea/v2"
)

// Letters of other layouts, by the key that they are on: Cyrillic as in Russia and Ukraine,
// and Greek.
var (
	latinKeys    = []rune("qwertyuiopasdfghjklzxcvbnm")
	cyrillicKeys = []rune("йцукенгшщзфывапролдячсмить")
	greekKeys    = []rune(";ςερτυθιοπασδφγηξκλζχψωβνμ")
	onKey        = map[rune]rune{'і': 's'}
)

func init() {
	for n, r := range latinKeys {
		onKey[cyrillicKeys[n]] = r
		if greekKeys[n] != ';' {
			onKey[greekKeys[n]] = r
		}
	}
}

// stroke is which key was pressed, by its name: "b", "enter", "shift+right". Letters are
// those of their place on the keyboard, whatever the layout is, and small, whatever Caps Lock
// says; upper is set for those that came as capitals.
func stroke(m tea.KeyPressMsg) (name string, upper bool) {
	k := m.Key()
	r := k.Code
	if k.BaseCode != 0 {
		r = k.BaseCode
	} else if text := []rune(k.Text); len(text) == 1 {
		r = text[0]
	}
	low := []rune(strings.ToLower(string(r)))[0]
	if latin, ok := onKey[low]; ok {
		low = latin
	}
	if low < 'a' || low > 'z' || k.Mod&^(tea.ModShift|tea.ModCapsLock|tea.ModNumLock) != 0 {
		if len(k.Text) == 1 && k.Text > " " && !unicode.IsLetter(rune(k.Text[0])) && !k.Mod.Contains(tea.ModAlt) {
			return k.Text, false // what it writes, whatever keys that takes
		}
		return m.Keystroke(), false
	}
	shifted := k.Mod.Contains(tea.ModShift) || len(k.Text) == 1 && k.Text != strings.ToLower(k.Text)
	return string(low), shifted && !k.Mod.Contains(tea.ModCapsLock)
}

// printed reports whether the key is one that writes something.
func printed(m tea.KeyPressMsg) bool { return m.Text != "" }
