// This file completes command lines: commands, flags, and the objects that arguments name. The
// scripts for shells are small; what fits is worked out here.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

// completeWithin is how long a shell waits for objects of the service.
const completeWithin = 2 * time.Second

// completionScripts ask `zridge completion words` with the line up to the cursor. They need nothing
// but the shell itself.
var completionScripts = map[string]string{
	// The shell replaces only what follows the last : or =, so candidates are cut there.
	"bash": `_zridge() {
  local IFS=$'\n'
  COMPREPLY=($(zridge completion words --cut ":=" -- "${COMP_LINE:0:COMP_POINT}" 2>/dev/null))
  case ${COMPREPLY[0]} in *=|*:) compopt -o nospace 2>/dev/null ;; esac
}
complete -o default -F _zridge zridge
`,
	"zsh": `#compdef zridge
_zridge() {
  local -a found
  found=(${(f)"$(zridge completion words -- "${LBUFFER}" 2>/dev/null)"})
  if (( ${#found} )); then compadd -Q -S '' -a found; else _files; fi
}
compdef _zridge zridge
`,
	"fish": `complete -c zridge -f -a '(zridge completion words -- (commandline -cp) 2>/dev/null)'
`,
}

func completionCommand(s Streams) *cli.Command {
	c := &cli.Command{
		Name: "completion", Usage: "complete command lines in a shell: bash, zsh, fish",
		Description: "Examples:\n  source <(zridge completion bash)\n  source <(zridge completion zsh)\n  zridge completion fish > " +
			"~/.config/fish/completions/zridge.fish",
	}
	for _, shell := range slices.Sorted(maps.Keys(completionScripts)) {
		c.Commands = append(c.Commands, &cli.Command{
			Name: shell, Usage: "print the script for " + shell, ArgsUsage: " ",
			Action: func(_ context.Context, c *cli.Command) error {
				if c.NArg() > 0 {
					return usage("completion: found %s, expected no arguments", problem.Quote(c.Args().First()))
				}
				fmt.Fprint(s.Out, completionScripts[shell])
				return nil
			},
		})
	}
	c.Commands = append(c.Commands, &cli.Command{
		Name: "words", Usage: "print what completes a LINE, one a line", ArgsUsage: "LINE", Hidden: true,
		Flags: []cli.Flag{&cli.StringFlag{Name: "cut", Usage: "print only what follows the last of these `CHARACTERS`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			ctx, cancel := context.WithTimeout(ctx, completeWithin)
			defer cancel()
			words := splitLine(c.Args().First())
			at := strings.LastIndexAny(words[len(words)-1], c.String("cut")) + 1
			if c.String("cut") == "" {
				at = 0
			}
			for _, candidate := range completions(ctx, c.Root(), words) {
				fmt.Fprintln(s.Out, candidate[at:])
			}
			return nil
		},
	})
	return c
}

// splitLine splits a line into words as a shell does, without expanding anything. The last word is
// the one to complete; it is empty after a blank.
func splitLine(line string) []string {
	words := []string{""}
	var quote rune
	escaped, begun := false, false
	for _, r := range line {
		last := &words[len(words)-1]
		switch {
		case escaped:
			*last += string(r)
			escaped = false
		case r == '\\' && quote != '\'':
			escaped, begun = true, true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			*last += string(r)
		case r == '\'' || r == '"':
			quote, begun = r, true
		case r == ' ' || r == '\t':
			if begun || *last != "" {
				words, begun = append(words, ""), false
			}
		default:
			*last += string(r)
		}
	}
	return words
}

// completions gives what the last of the words may become. The first word is the program.
func completions(ctx context.Context, root *cli.Command, words []string) []string {
	if len(words) < 2 {
		return nil
	}
	c, last := root, words[len(words)-1]
	var arguments []string
	wanted := "" // what the flag before takes
	for _, word := range words[1 : len(words)-1] {
		switch {
		case wanted != "":
			wanted = ""
		case strings.HasPrefix(word, "-"):
			if name, _, has := strings.Cut(strings.TrimLeft(word, "-"), "="); !has {
				wanted = takes(flagNamed(c, name))
			}
		case subcommand(c, word) != nil && len(arguments) == 0:
			c = subcommand(c, word)
		default:
			arguments = append(arguments, word)
		}
	}
	if wanted != "" {
		return fitting(objectsOf(ctx, wanted, last), last)
	}
	if strings.HasPrefix(last, "-") {
		if name, value, has := strings.Cut(last, "="); has {
			found := fitting(objectsOf(ctx, takes(flagNamed(c, strings.TrimLeft(name, "-"))), value), value)
			for i := range found {
				found[i] = name + "=" + found[i]
			}
			return found
		}
		var flags []string
		for _, f := range c.Flags {
			flags = append(flags, "--"+f.Names()[0])
		}
		return fitting(append(flags, "--help"), last)
	}
	var found []string
	if len(arguments) == 0 {
		for _, sub := range c.Commands {
			if !sub.Hidden {
				found = append(found, sub.Name)
			}
		}
	}
	return fitting(append(found, objectsOf(ctx, argumentAt(c, len(arguments)), last)...), last)
}

func subcommand(c *cli.Command, name string) *cli.Command {
	i := slices.IndexFunc(c.Commands, func(sub *cli.Command) bool { return sub.Name == name })
	if i < 0 {
		return nil
	}
	return c.Commands[i]
}

func flagNamed(c *cli.Command, name string) cli.Flag {
	i := slices.IndexFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
	if i < 0 {
		return nil
	}
	return c.Flags[i]
}

// takes says what a flag takes, by the word between backquotes in its usage, and the words behind a
// colon that it may be; empty for a flag that takes nothing.
func takes(f cli.Flag) string {
	documented, ok := f.(cli.DocGenerationFlag)
	if !ok || !documented.TakesValue() {
		return ""
	}
	_, rest, _ := strings.Cut(documented.GetUsage(), "`")
	what, says, _ := strings.Cut(rest, "`")
	if _, words, has := strings.Cut(says, ": "); has {
		words, _, _ = strings.Cut(words, ";")
		return "one of " + strings.ReplaceAll(words, " or ", ", ")
	}
	return strings.ToUpper(what)
}

// argumentAt gives what stands for the argument of a place in the usage of a command. The last word
// stands for all that follow.
func argumentAt(c *cli.Command, at int) string {
	words := strings.Fields(strings.NewReplacer("[", "", "]", "", "…", "", ",", "").Replace(c.ArgsUsage))
	if len(words) == 0 {
		return ""
	}
	return words[min(at, len(words)-1)]
}

func fitting(candidates []string, prefix string) []string {
	candidates = slices.DeleteFunc(candidates, func(c string) bool { return !strings.HasPrefix(c, prefix) })
	slices.Sort(candidates)
	return slices.Compact(candidates)
}

// lists says where the ids of what an argument stands for are listed.
var lists = map[string]string{
	"ACCOUNT": "/accounts", "CHANGE": "/changes", "DEVICE": "/devices", "EXCEPTION": "/exceptions", "GROUP": "/groups", "KIT": "/kits",
	"PERSON": "/people", "POLICY": "/policies", "POLICIES": "/policies", "ROLE": "/roles", "ROLLOUT": "/rollouts",
	"SETTING": "/settings", "SETTINGS": "/settings",
	"SOURCE": "/sources", "UNIT": "/units",
}

// objectsOf gives the ids of what an argument stands for. Whoever is not signed in, or whose
// service does not answer, is given none.
func objectsOf(ctx context.Context, what, typed string) []string {
	if words, is := strings.CutPrefix(what, "one of "); is {
		return strings.Split(words, ", ")
	}
	prefix := ""
	switch what {
	case "TARGET", "unit:ID":
		kinds := map[string]string{"unit": "UNIT", "group": "GROUP", "device": "DEVICE", "person": "PERSON"}
		kind, id, has := strings.Cut(typed, ":")
		if !has {
			if what == "TARGET" {
				return []string{"everyone", "unit:", "group:", "device:", "person:", "serial:"}
			}
			return []string{"unit:", "group:"}
		}
		what, typed, prefix = kinds[kind], id, kind+":"
	case "SETTING=VALUE":
		if id, _, has := strings.Cut(typed, "="); has {
			return valuesOf(ctx, id)
		}
		ids := objectsOf(ctx, "SETTING", typed)
		for i := range ids {
			ids[i] += "="
		}
		return ids
	}
	path := lists[what]
	api, err := signedIn()
	if path == "" || err != nil {
		return nil
	}
	query := url.Values{}
	switch path {
	case "/policies", "/settings", "/groups":
		query.Set("limit", "1000")
	case "/devices", "/people": // there may be 100,000
		query = url.Values{"limit": {"200"}, "q": {typed}}
	case "/changes":
		query.Set("state", "open")
	}
	body, err := client.Get[json.RawMessage](ctx, api, path, query)
	if err != nil {
		return nil
	}
	type object struct {
		ID   string `json:"id"`
		Name string `json:"name"`
	}
	var page struct {
		Items []object `json:"items"`
	}
	if len(body) > 0 && body[0] == '[' {
		err = json.Unmarshal(body, &page.Items)
	} else {
		err = json.Unmarshal(body, &page)
	}
	if err != nil {
		return nil
	}
	var ids []string
	for _, o := range page.Items {
		ids = append(ids, prefix+orDefault(o.ID, o.Name))
	}
	return ids
}

// valuesOf completes the value of a setting that takes one of few words.
func valuesOf(ctx context.Context, id string) []string {
	api, err := signedIn()
	if err != nil {
		return nil
	}
	d, err := client.Get[struct{ files.ShapeDoc }](ctx, api, client.Path("settings", id), nil)
	if err != nil {
		return nil
	}
	options := d.Options
	if d.Type == "bool" {
		options = []string{"on", "off"}
	}
	words := make([]string, len(options))
	for i, o := range options {
		words[i] = id + "=" + o
	}
	return words
}
