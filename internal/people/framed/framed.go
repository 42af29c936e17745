package framed

import (
	"context"
	"fmt"
	"os"

	tea "charm.land/bubbletea/v2"
)

// Numbered is the environment variable that has drawings numbered. It is for tests.
const Numbered = "VAIVEN_NUMBERED_FRAMES"

// Program is a program that shows a model until its context ends.
type Program struct {
	*tea.Program
}

// New makes the program of a model, which paints so many frames a second at most.
func New(ctx context.Context, m tea.Model, perSecond int, options ...tea.ProgramOption) Program {
	if os.Getenv(Numbered) != "" {
		m = &numbered{Model: m, process: os.Getpid()}
	}
	return Program{tea.NewProgram(m, append(options, tea.WithContext(ctx), tea.WithFPS(perSecond))...)}
}

// Run runs it, and returns the model as it was at the end.
func (p Program) Run() (tea.Model, error) {
	m, err := p.Program.Run()
	if n, ok := m.(*numbered); ok {
		m = n.Model
	}
	return m, err
}

// numbered is a model whose drawings are numbered. Bubble Tea updates and draws it in one goroutine.
type numbered struct {
	tea.Model
	process, keys, rows int
}

// Update takes a message in; the model knows of all rows but the last.
func (n *numbered) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		n.rows = m.Height
		m.Height--
		msg = m
	case tea.KeyPressMsg, tea.PasteMsg:
		n.keys++
	}
	next, cmd := n.Model.Update(msg)
	n.Model = next
	return n, cmd
}

// View draws the model, and the numbers below it.
func (n *numbered) View() tea.View {
	v := n.Model.View()
	v.Content += fmt.Sprintf("\n#%d.%d.%d", n.process, n.keys, n.rows)
	return v
}
