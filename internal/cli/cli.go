// Package cli is the command line. It talks to the service through package client and
// does not depend on the service's internals. It prints text for people, and JSON for
// programs with --json.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/charmbracelet/colorprofile"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/state"
)

// program is one invocation of the command line.
type program struct {
	state      string
	json       bool
	unattended bool
	in         io.Reader
	out        io.Writer // results
	err        io.Writer // progress and errors
	terminal   bool      // a person sits at it
	width      int
	// reservation is the one under which work is done, where the environment names none.
	reservation string
}

// Main runs the command line and returns the exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	p := &program{in: os.Stdin, out: colorprofile.NewWriter(os.Stdout, os.Environ()), err: colorprofile.NewWriter(os.Stderr, os.Environ()),
		terminal: term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stdout.Fd())), width: 120}
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 0 {
		p.width = w
	}
	root := p.root()
	root.SetArgs(args)
	return p.exit(root.ExecuteContext(ctx))
}

// Command returns the whole command line, for generating documentation.
func Command() *cobra.Command {
	return (&program{in: os.Stdin, out: os.Stdout, err: os.Stderr}).root()
}

func (p *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "earlybench",
		Short: "Prepare devices for development, and explain what is in the way",
		Long: `Early Bench prepares handsets, tablets and wearables for development, and says
for any device what the first problem is, how it knows, and what to
do next. Start with: earlybench demo, then earlybench rack.`,
		SilenceErrors: true, SilenceUsage: true,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if say, _ := c.Flags().GetBool("version"); say {
				return p.printVersion()
			}
			return c.Help()
		},
	}
	root.Flags().Bool("version", false, "print the version, commit, Go version and console build")
	root.SetOut(p.out)
	root.SetErr(p.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%w; see earlybench %s--help", err, strings.TrimPrefix(c.CommandPath()+" ", "earlybench "))
	})
	f := root.PersistentFlags()
	f.StringVar(&p.state, "state", "", "state directory of the bench (default EARLYBENCH_STATE, else below the XDG state home)")
	f.BoolVar(&p.json, "json", false, "print JSON")
	f.BoolVar(&p.unattended, "unattended", false, "never ask: what needs a person ends with code 6")
	root.AddGroup(&cobra.Group{ID: "day", Title: "Everyday commands:"}, &cobra.Group{ID: "have", Title: "What the bench has:"}, &cobra.Group{ID: "run", Title: "The bench itself:"})
	add := func(group string, cs ...*cobra.Command) {
		for _, c := range cs {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("day", p.rackCommand(), p.roundCommand(), p.whyCommand(), p.explainCommand(), p.endingsCommand(), p.prepCommand(), p.waitCommand(), p.retireCommand(), p.runCommand(), p.tryCommand(), p.logCommand(), p.portCommand(), p.withCommand())
	add("have", p.hostCommand(), p.linkCommand(), p.networkCommand(), p.peerCommand(), p.loanCommand(), p.handsCommand(), p.reservationCommand(), p.adapterCommand(), p.driverCommand(), p.supportCommand(), p.depotCommand(), p.kitCommand(), p.sheetCommand(), p.projectCommand(), p.appCommand(), p.safeCommand(), p.authorityCommand(), p.accountCommand(), p.identityCommand(), p.registerCommand(), p.handoverCommand(), p.statementCommand(grants), p.statementCommand(tokens), p.tryoutCommand(), p.jobCommand())
	add("run", p.demoCommand(), p.serveCommand(), p.consoleCommand(), p.accessCommand(), p.auditCommand(), p.tidyCommand(), p.backupCommand(), p.standinCommand(), holdCommand())
	root.SetHelpCommandGroupID("run")
	root.SetCompletionCommandGroupID("run")
	topics(root)
	wrongArgs(root)
	p.completions(root)
	return root
}

// wrongArgs turns cobra's errors about arguments into usage errors.
func wrongArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if slices.Contains(args, "") {
				return usage("one of the arguments is empty; write: %s", c.UseLine())
			}
			if err := check(c, args); err != nil {
				if len(args) > 0 && c.HasSubCommands() {
					return unknown(c, args[0])
				}
				return usage("wrong number of arguments; write: %s", c.UseLine())
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		wrongArgs(sub)
	}
}

func unknown(c *cobra.Command, word string) error {
	c.SuggestionsMinimumDistance = 2
	hint := ""
	if s := c.SuggestionsFor(word); len(s) > 0 {
		hint = "; did you mean " + strings.Join(s, " or ") + "?"
	}
	return usage("%s has no command %q%s", c.CommandPath(), word, hint)
}

// bench makes a client for the bench that the options select.
func (p *program) bench() (*client.Client, error) {
	dir, err := state.Dir(p.state)
	if err != nil {
		return nil, err
	}
	c := client.New(state.Socket(dir, "bench"))
	if key := os.Getenv("EARLYBENCH_ACCESS"); key != "" {
		c = c.WithKey(key)
	}
	if id := cmp.Or(p.reservation, os.Getenv("EARLYBENCH_RESERVATION")); id != "" {
		c = c.WithReservation(id)
	}
	return c, nil
}

// printJSON prints a value as JSON.
func (p *program) printJSON(v any) error { return p.encode(p.out, v) }

// printLineJSON prints a value as one line of JSON.
func (p *program) printLineJSON(v any) error {
	e := json.NewEncoder(p.out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (p *program) encode(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// printList prints items as JSON, or by table.
func printList[T any](p *program, items []T, table func([]T)) error {
	if p.json {
		if items == nil {
			items = []T{}
		}
		return p.printJSON(client.List[T]{Items: items})
	}
	table(items)
	return nil
}
