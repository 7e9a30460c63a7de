package webdrive

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/script"
	"parallelpane/internal/webdriver"
)

// Frame goes into a frame; nil goes back to the whole page.
func (b *Browser) Frame(ctx context.Context, m *script.Match) error {
	if m == nil {
		return b.judge(ctx, b.s.SwitchFrame(ctx, ""))
	}
	return b.judge(ctx, b.s.SwitchFrame(ctx, element(*m)))
}

// Window goes to a window: new is the one that has opened and in which the test has not
// been, first the one in which it began, close the one before, once the current one is
// closed; title and address are of a window which contains what is wanted.
func (b *Browser) Window(ctx context.Context, which, want string) error {
	if len(b.been) == 0 {
		first, err := b.s.Window(ctx)
		if err != nil {
			return b.judge(ctx, err)
		}
		b.been = []string{first}
	}
	all, err := b.s.Windows(ctx)
	if err != nil {
		return b.judge(ctx, err)
	}
	b.been = slices.DeleteFunc(b.been, func(w string) bool { return !slices.Contains(all, w) })
	switch which {
	case "new":
		fresh := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return slices.Contains(b.been, w) })
		switch len(fresh) {
		case 0:
			return script.Retry(fmt.Errorf("no window has opened; there are %d", len(all)))
		case 1:
			return b.goTo(ctx, fresh[0])
		}
		return fmt.Errorf("%d windows have opened: say which, with title or address", len(fresh))
	case "first":
		if len(b.been) == 0 {
			return errors.New("the window in which the test began is closed")
		}
		return b.goTo(ctx, b.been[0])
	case "close":
		if len(all) == 1 {
			return errors.New("this is the only window: closing it would end the session")
		}
		left, err := b.s.CloseWindow(ctx)
		if err != nil {
			return b.judge(ctx, err)
		}
		if b.been = slices.DeleteFunc(b.been, func(w string) bool { return !slices.Contains(left, w) }); len(b.been) == 0 {
			return b.goTo(ctx, left[0])
		}
		return b.goTo(ctx, b.been[len(b.been)-1])
	}
	return b.seek(ctx, all, which, want)
}

// goTo makes a window the current one.
func (b *Browser) goTo(ctx context.Context, w string) error {
	if err := b.s.SwitchTo(ctx, w); err != nil {
		return b.judge(ctx, err)
	}
	i := slices.Index(b.been, w)
	switch {
	case i < 0:
		b.been = append(b.been, w)
	case i > 0: // the first stays the first
		b.been = append(slices.Delete(b.been, i, i+1), w)
	}
	return nil
}

// seek looks through the windows for one by its title or address, and stays where it is
// when there is none.
func (b *Browser) seek(ctx context.Context, all []string, which, want string) error {
	now, err := b.s.Window(ctx)
	if err != nil {
		return b.judge(ctx, err)
	}
	var have []string
	for _, w := range all {
		if err := b.s.SwitchTo(ctx, w); err != nil {
			if webdriver.CodeOf(err) == webdriver.NoSuchWindow { // it has just closed
				continue
			}
			return b.judge(ctx, err)
		}
		read := b.s.Title
		if which == "address" {
			read = b.s.URL
		}
		got, err := read(ctx)
		if err != nil {
			return b.judge(ctx, err)
		}
		if strings.Contains(got, want) {
			return b.goTo(ctx, w)
		}
		have = append(have, got)
	}
	if err := b.s.SwitchTo(ctx, now); err != nil {
		return b.judge(ctx, err)
	}
	return script.Retry(fmt.Errorf("no window's %s contains %q; there are %q", which, want, have))
}

// Saved lists the files that the browser has saved to their ends.
func (b *Browser) Saved(ctx context.Context) ([]string, error) {
	names, err := b.lab.Saved(ctx)
	if err != nil {
		return nil, &script.LabError{Err: err}
	}
	return names, nil
}
