package fleet

import "testing"

func TestBar(t *testing.T) {
	for name, c := range map[string]struct {
		stand  Stand
		bar    Bar
		forced bool
	}{
		"all answer":                {Stand{Read: true, Instances: 4, Answer: 4, Beside: 4}, Clear, true},
		"half of them":              {Stand{Read: true, Instances: 4, Answer: 2, Refuse: 2, Beside: 4}, Clear, true},
		"one of four":               {Stand{Read: true, Instances: 4, Answer: 1, Refuse: 3, Beside: 4}, Few, true},
		"they cannot be asked":      {Stand{Read: true, Instances: 4, Beside: 4}, Clear, true},
		"they are known not to run": {Stand{Read: true, Instances: 4, Refuse: 4, Beside: 4}, Nobody, false},
		"there are none":            {Stand{Read: true, Beside: 4}, Nobody, false},
		"it is closed":              {Stand{Read: true, Instances: 4, Answer: 4, Closed: true}, Shut, false},
		"it is not proven":          {Stand{Read: true, Instances: 4, Answer: 4, Unproven: true}, Unproven, true},
		"nothing is known":          {Stand{}, Unreachable, true},
	} {
		if got := c.stand.Bar(); got != c.bar || got.Forced() != c.forced {
			t.Errorf("%s: %q", name, got)
		}
	}
}
