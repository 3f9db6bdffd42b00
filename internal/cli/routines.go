package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/legible"
)

func routinesCommand() *cli.Command {
	return &cli.Command{
		Name: "routines", Usage: "named sequences of what is done by hand: list, perform, write", Flags: []cli.Flag{jsonFlag},
		Action: listRoutines,
		Commands: []*cli.Command{
			{Name: "show", Usage: "show a routine: what it takes, what it may do, its text", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag}, Action: showRoutine},
			{
				Name: "do", Usage: "perform a routine, and answer what it asks", ArgsUsage: "NAME [PARAMETER=VALUE ...]",
				Description: "Questions are answered by their number or their words, a line each. Ctrl-C stops it, into the state that it names as safe.",
				Flags:       []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "begin", Usage: "only begin it; questions are answered elsewhere"}}, Action: performRoutine,
			},
			{Name: "stop", Usage: "stop the routine that is being performed", Flags: []cli.Flag{jsonFlag}, Action: stopRoutine},
			{Name: "past", Usage: "what was performed, or all that one of it did", ArgsUsage: "[ID]", Flags: []cli.Flag{jsonFlag}, Action: pastRoutines},
			{Name: "check", Usage: "say what a text would do as a routine, or what is wrong with it", ArgsUsage: "FILE|-", Flags: []cli.Flag{jsonFlag}, Action: checkRoutine},
			{Name: "store", Usage: "store a routine under the name that its text has", ArgsUsage: "FILE|-", Flags: []cli.Flag{jsonFlag}, Action: checkRoutine},
			{
				Name: "around", Usage: "tell, or say, which routines go around every run",
				Flags: append([]cli.Flag{jsonFlag}, arounds("every run's first line", "every run that is finished")...), Action: aroundRuns,
			},
			{Name: "remove", Usage: "remove one that you have written", ArgsUsage: "NAME", Action: removeRoutine},
		},
	}
}

func listRoutines(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() {
		return wrong("%q is none of show, do, stop, past, around, check, store, remove", cmd.Args().First())
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	all, err := client.Ask(ctx, c, ops.ListRoutines)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, all)
	}
	var rows [][]string
	for _, r := range all.Routines {
		does := r.About
		if r.Trouble != "" {
			does = "cannot be performed: " + r.Trouble
		}
		rows = append(rows, []string{r.Name, does})
	}
	return table(w, []string{"Routine", "What it does"}, rows)
}

func showRoutine(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1, 1)
	if err != nil {
		return err
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	r, err := client.Call(ctx, c, ops.GetRoutine, ops.Name{Name: args[0]})
	if err != nil {
		return err
	}
	return printRoutine(cmd, r, true)
}

func printRoutine(cmd *cli.Command, r api.Routine, text bool) error {
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, r)
	}
	fmt.Fprintf(w, "%s\n", r.Name)
	if r.About != "" {
		fmt.Fprintf(w, "%s\n", r.About)
	}
	if r.Trouble != "" {
		fmt.Fprintf(w, "It cannot be performed: %s\n", r.Trouble)
	}
	for _, p := range r.Parameters {
		fmt.Fprintf(w, "  %s: %s\n", p.Name, takes(p))
	}
	for _, sentence := range r.Sentences {
		fmt.Fprintln(w, sentence)
	}
	if text {
		fmt.Fprintf(w, "\n%s", r.Text)
	}
	return nil
}

// takes says what a parameter may be.
func takes(p api.RoutineParameter) string {
	out := p.Type
	switch {
	case p.Type == "number":
		out = strings.TrimSpace(fmt.Sprintf("%g to %g %s", p.Low, p.High, p.Unit))
	case len(p.Words) > 0:
		out = strings.Join(p.Words, ", ")
	}
	if p.Default == "" {
		return out + "; has to be given"
	}
	return out + "; usually " + p.Default
}

func checkRoutine(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1, 1)
	if err != nil {
		return err
	}
	var text []byte
	if path := args[0]; path == "-" {
		text, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	} else {
		text, err = os.ReadFile(path)
	}
	if err != nil {
		return err
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	r, err := client.Call(ctx, c, ops.CheckRoutine, ops.Body(api.RoutineText{Text: string(text)}))
	if err == nil && cmd.Name == "store" {
		r, err = client.Call(ctx, c, ops.StoreRoutine, ops.ForName(r.Name, api.RoutineText{Text: string(text)}))
	}
	if err != nil {
		return err
	}
	return printRoutine(cmd, r, false)
}

func removeRoutine(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1, 1)
	if err != nil {
		return err
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	if err := client.Do(ctx, c, ops.RemoveRoutine, ops.Name{Name: args[0]}); err != nil {
		return err
	}
	_, err = fmt.Fprintf(cmd.Root().Writer, "%s is removed.\n", args[0])
	return err
}

func stopRoutine(ctx context.Context, cmd *cli.Command) error {
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	bench, err := client.Ask(ctx, c, ops.GetBench)
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, ops.StopPerformance, ops.ID{ID: bench.Routine.ID})
	if err != nil {
		return err
	}
	if cmd.Bool("json") {
		return printJSON(cmd.Root().Writer, p)
	}
	_, err = fmt.Fprintln(cmd.Root().Writer, performanceInWords(p))
	return err
}

// performanceInWords says how a performance stands.
func performanceInWords(p api.Performance) string {
	out := fmt.Sprintf("%s: %s", p.Routine, p.State)
	if p.State == "leaving" {
		out = p.Routine + ": being made safe"
	}
	if p.Why != "" {
		out += ", " + p.Why
	}
	return out
}

func pastRoutines(ctx context.Context, cmd *cli.Command) error {
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if id := cmd.Args().First(); id != "" {
		p, err := client.Call(ctx, c, ops.GetPerformance, ops.ID{ID: id})
		if err != nil {
			return err
		}
		if cmd.Bool("json") {
			return printJSON(w, p)
		}
		fmt.Fprintf(w, "%s, by %s, %s\n", performanceInWords(p), p.By, p.Begun.Local().Format("2 January 2006 15:04"))
		for _, k := range slices.Sorted(maps.Keys(p.Values)) {
			fmt.Fprintf(w, "  %s = %s\n", k, p.Values[k])
		}
		for _, e := range p.Entries {
			fmt.Fprintf(w, "%8.1f s  %-8s %s\n", e.AtSeconds, e.Kind, e.Text)
		}
		return nil
	}
	past, err := client.Call(ctx, c, ops.ListPerformances, ops.Past{Limit: 50})
	if err != nil {
		return err
	}
	if cmd.Bool("json") {
		return printJSON(w, past)
	}
	var rows [][]string
	for _, p := range past.Performances {
		rows = append(rows, []string{p.Begun.Local().Format("2006-01-02 15:04"), p.Routine, p.State, p.By, shortID(p.ID)})
	}
	return table(w, []string{"Begun", "Routine", "Ended", "By", "ID"}, rows)
}

func performRoutine(ctx context.Context, cmd *cli.Command) error {
	args := cmd.Args().Slice()
	if len(args) == 0 {
		return wrong("name a routine; 'diathermon routines' lists them")
	}
	values := map[string]string{}
	for _, arg := range args[1:] {
		name, value, ok := strings.Cut(arg, "=")
		if _, twice := values[name]; !ok || twice {
			return wrong("%q gives no parameter a value: write PARAMETER=VALUE, each once", arg)
		}
		values[name] = value
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, ops.PerformRoutine, ops.ForName(args[0], api.Perform{Values: values}))
	if err != nil {
		return err
	}
	if cmd.Bool("begin") {
		if cmd.Bool("json") {
			return printJSON(cmd.Root().Writer, p)
		}
		_, err = fmt.Fprintln(cmd.Root().Writer, performanceInWords(p))
		return err
	}
	return follow(ctx, cmd, c, p)
}

// errStopped means that a routine did not come to its end.
var errStopped = errors.New("the routine did not come to its end")

// follow shows what a performance does until it is over, and takes answers.
func follow(ctx context.Context, cmd *cli.Command, c *client.Client, p api.Performance) error {
	w := cmd.Root().Writer
	stopped := ctx
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	now := make(chan api.Performance, 64)
	go func() {
		for ctx.Err() == nil {
			c.Events(ctx, func(e client.Event) {
				if d, ok := e.Data.(api.Performance); ok {
					select {
					case now <- d:
					case <-ctx.Done():
					}
				}
			})
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}()
	typed := make(chan string)
	go func() {
		for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
			typed <- strings.TrimSpace(lines.Text())
		}
	}()
	said, asked := "", 0
	for {
		if p.Said != said && p.Said != "" && p.Question == nil {
			fmt.Fprintf(w, "  %s\n", legible.Line(p.Said))
		}
		said = p.Said
		if q := p.Question; q != nil && q.Number != asked {
			asked = q.Number
			fmt.Fprintf(w, "%s\n", q.Text)
			for i, a := range q.Answers {
				fmt.Fprintf(w, "  %d  %s\n", i+1, a)
			}
		}
		if p.Ended != nil {
			fmt.Fprintln(w, performanceInWords(p)+".")
			if p.State != "finished" {
				return errStopped
			}
			return nil
		}
		answers := typed
		if p.Question == nil { // what is typed before it is asked waits
			answers = nil
		}
		select {
		case d := <-now:
			if d.ID != p.ID {
				continue
			}
			p = d
		case text := <-answers:
			answer := text
			if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= len(p.Question.Answers) {
				answer = p.Question.Answers[n-1]
			}
			d, err := client.Call(ctx, c, ops.AnswerQuestion, ops.ForID(p.ID, api.QuestionAnswer{Question: p.Question.Number, Answer: answer}))
			if err != nil {
				fmt.Fprintf(w, "%s\n", words(err))
				continue
			}
			p = d
		case <-stopped.Done():
			fmt.Fprintln(w, "It is stopped, and made safe.")
			d, err := client.Call(ctx, c, ops.StopPerformance, ops.ID{ID: p.ID})
			if err != nil {
				return err
			}
			p, stopped = d, context.WithoutCancel(stopped)
		}
	}
}
