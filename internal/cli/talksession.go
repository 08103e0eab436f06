package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/lineedit"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/talk"
)

// all talks until the person leaves.
func (t *talker) all(ctx context.Context) error {
	defer t.caught.Store(nil)
	stop := t.atEnd(ctx)
	defer stop()
	var next *talk.Input
	for first := true; ; first = false {
		err := t.connect(ctx, next)
		t.session, t.again, next = nil, nil, nil
		switch {
		case errors.Is(err, errLeave):
			return nil
		case errors.Is(err, errMoves):
			continue
		case first && !errors.Is(err, errLost), ctx.Err() != nil:
			return err
		case !errors.Is(err, errLost):
			t.failedAgain(err)
		}
		t.place.Lost, t.place.Transaction = true, engine.NoTransaction
		if next, err = t.wait(ctx); err != nil {
			if errors.Is(err, errLeave) {
				return nil
			}
			return err
		}
	}
}

// connect opens a session and talks in it. Its error says what ended it: [errLeave], [errLost],
// [errMoves], or why there was none. Ctrl-C ends the opening; from then on it is for what is
// typed or runs.
func (t *talker) connect(ctx context.Context, next *talk.Input) error {
	var ended error
	opening, giveUp := context.WithCancel(ctx)
	defer giveUp()
	end, idle := func() { giveUp() }, func() {}
	t.caught.Store(&end)
	defer t.caught.Store(&idle)
	work := harbor.Work{
		Needs: engine.Runs,
		Ready: func(language engine.Language, level guard.Level) error {
			t.language, t.level = language, level
			if language.Objects != nil {
				return usage("talk takes statements in words, and this server takes objects: run one by itself, "+
					"such as gharbor run %s '{\"ping\": 1}'",
					clip(t.name))
			}
			return nil
		},
		Further: func(again func(context.Context, harbor.Work) error) { t.again = again },
		Account: func(account, _ string) {
			fmt.Fprintf(t.Stdout, "%s\n", strings.ToUpper(account[:1])+account[1:]+".")
		},
		Do: func(session engine.Session, _ engine.Language, _ func(error) error) error {
			t.session = session
			t.caught.Store(&idle)
			ended = t.sit(ctx, next)
			return nil
		},
	}
	to, err := t.Aim(opening, t.name, false)
	if err != nil {
		return err
	}
	t.file = to.File
	t.place.Live = to.Labels["live"] != ""
	for _, value := range to.Labels {
		t.place.Live = t.place.Live || value == "live"
	}
	if err := t.ConnectedTo(opening, to, work); err != nil {
		return err
	}
	return ended
}

// sit talks in a session that was just opened.
func (t *talker) sit(ctx context.Context, next *talk.Input) error {
	if err := t.settle(ctx); err != nil {
		return err
	}
	if t.editor == nil {
		if err := t.begin(ctx); err != nil {
			return err
		}
		fmt.Fprintln(t.Stdout, paint(t.Stdout, faint,
			"Statements end with a semicolon; gharbor help lists the words of the session; Ctrl-D leaves."))
	}
	for _, text := range t.settings.Start {
		in, err := talk.Read(t.language, text+";")
		if err == nil {
			err = t.does(ctx, in)
		}
		if err != nil {
			return err
		}
	}
	for {
		if next != nil {
			if err := t.does(ctx, *next); err != nil {
				return err
			}
		}
		t.learn(ctx)
		in, err := t.read(ctx)
		if err != nil {
			return err
		}
		next = &in
	}
}

// wait reads, while there is no session, until something needs one.
func (t *talker) wait(ctx context.Context) (*talk.Input, error) {
	for {
		in, err := t.read(ctx)
		if err != nil {
			return nil, err
		}
		if in.Words == nil {
			return &in, nil
		}
		if err := t.word(ctx, in.Words); err != nil {
			return nil, err
		}
	}
}

// begin makes the editor.
func (t *talker) begin(ctx context.Context) error {
	remembered, err := t.remembered()
	if err != nil {
		t.Note("what was typed before is not remembered: %v", err)
	}
	t.editor = lineedit.New(lineedit.Options{
		Style: t.settings.Edit, Prompt: t.prompt,
		Awaited: func(text string) string {
			in, _ := talk.Read(t.language, text)
			if in.Awaited == "" {
				return ""
			}
			return report.Painted(t.Stdout, faint, in.Awaited)
		},
		Whole: func(text string) bool {
			in, err := talk.Read(t.language, text)
			return err != nil || in.Awaited == ""
		},
		Offers:     t.offers,
		Remembered: remembered,
		Remember: func(text string) bool {
			if !talk.Remembers(text) {
				return false
			}
			if err := t.remember(ctx, text); err != nil {
				return false
			}
			return true
		},
	})
	return nil
}

// read gives the next text that is whole. Its error is [errLeave], or why no more can be read.
func (t *talker) read(ctx context.Context) (talk.Input, error) {
	for {
		text, err := t.editor.Read()
		switch {
		case ctx.Err() != nil:
			return talk.Input{}, ctx.Err()
		case errors.Is(err, lineedit.ErrLeft):
			continue
		case errors.Is(err, io.EOF):
			if t.mayLeave(ctx) {
				return talk.Input{}, errLeave
			}
			continue
		case err != nil: // the terminal has gone
			return talk.Input{}, errLeave
		case strings.TrimSpace(text) == "":
			continue
		}
		in, err := talk.Read(t.language, text)
		if err != nil {
			t.tell(usage("%v", err))
			continue
		}
		return in, nil
	}
}
