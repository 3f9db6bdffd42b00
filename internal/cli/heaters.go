package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// heatModels returns what is known of the heaters. Where JSON was asked for it has
// told that already.
func heatModels(ctx context.Context, cmd *cli.Command, c *client.Client) (models api.HeatModels, told bool, err error) {
	if models, err = client.Ask(ctx, c, ops.GetHeatModels); err == nil && cmd.Bool("json") {
		return models, true, printJSON(cmd.Root().Writer, models)
	}
	return models, false, err
}

func showModels(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	models, told, err := heatModels(ctx, cmd, c)
	if told || err != nil {
		return err
	}
	w := cmd.Root().Writer
	rows := make([][]string, 0, len(models.Models))
	for _, m := range models.Models {
		if !m.Known {
			rows = append(rows, []string{m.Heater, "not known yet: it is learned as the heater warms up", "", "", "", ""})
			continue
		}
		rows = append(rows, []string{
			m.Heater, fmt.Sprintf("%.2f ± %.2f K/s", m.Rise.Value, m.Rise.Error), fmt.Sprintf("%.0f K above the room", m.Gain), clock(m.TimeConstant),
			fmt.Sprintf("%.0f s", m.Dead), fmt.Sprintf("%.1f ± %.1f °C", m.Ambient.Value, m.Ambient.Error),
		})
	}
	if err := table(w, []string{"Heater", "Rise at full duty", "Gain", "Time constant", "Dead time", "Room"}, rows); err != nil {
		return err
	}
	for _, m := range models.Models {
		if m.Needs != nil {
			fmt.Fprintln(w, needs(m.Heater, m.Needs))
		}
	}
	return nil
}

// needs says in words what duty a heater takes to hold a temperature.
func needs(heater string, n *api.Needs) string {
	percent := func(e api.Estimate) string { return fmt.Sprintf("%.1f ± %.1f %%", 100*e.Value, 100*e.Error) }
	text := fmt.Sprintf("The %s holds %.0f °C with %s of duty", heater, n.At, percent(n.Duty))
	for _, f := range n.Fan {
		text += fmt.Sprintf("; fan at %.0f %%: %s more", 100*f.Fan, percent(f.More))
	}
	if n.Melt != nil {
		text += fmt.Sprintf("; each mm³/s of filament: %s more", percent(*n.Melt))
	}
	if n.More != nil && *n.More > 0.05 {
		text += fmt.Sprintf(". It needs %.0f %% more than before in this run", 100**n.More)
	}
	return text + "."
}

func showHealth(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	bench, err := client.Ask(ctx, c, ops.GetBench)
	if err != nil {
		return err
	}
	var all []api.HeatHealth
	for _, h := range bench.Heaters {
		health, err := client.Call(ctx, c, ops.GetHeatHealth, ops.Heater{Heater: h.Heater})
		if err != nil {
			return err
		}
		all = append(all, health)
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, all)
	}
	for _, h := range all {
		warm := 0
		for _, e := range h.Episodes {
			if e.Kind == "warm-up" {
				warm++
			}
		}
		fmt.Fprintf(w, "%s: %d warm-ups and %d stretches of holding in the last half year.\n", h.Heater, warm, len(h.Episodes)-warm)
		for _, f := range h.Findings {
			fmt.Fprintf(w, "  %s\n", upper(f.Text))
		}
		if len(h.Findings) == 0 {
			fmt.Fprintln(w, "  Nothing has changed beyond its own scatter.")
		}
	}
	return nil
}

// upper begins a sentence.
func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func listAlarms(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	alarms, err := client.Call(ctx, c, ops.ListAlarms, ops.Alarms{Waiting: false})
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, alarms)
	}
	if len(alarms.Alarms) == 0 {
		fmt.Fprintln(w, "There has been no alarm.")
	}
	for _, a := range alarms.Alarms {
		seen := "waits for you: 'diathermon heat --acknowledge " + a.ID + "'"
		if a.Acknowledged != nil {
			seen = fmt.Sprintf("acknowledged %s by %s: %s", local(*a.Acknowledged), a.By, a.Said)
		}
		fmt.Fprintf(w, "%s  %s (%s): %s\n  %s\n", local(a.At), a.Guard, a.Action, a.Text, seen)
	}
	return nil
}

func acknowledge(ctx context.Context, cmd *cli.Command, c *client.Client, id string) error {
	said := api.Acknowledgement{}
	for flag, verdict := range map[string]string{"nothing-wrong": "sound", "fault": "fault"} {
		switch {
		case !cmd.IsSet(flag):
		case said.Verdict != "":
			return wrong("an alarm was nothing or a fault: give one of --nothing-wrong and --fault")
		default:
			said = api.Acknowledgement{Verdict: verdict, Reason: cmd.String(flag)}
		}
	}
	ids := []string{id}
	if id == "all" {
		waiting, err := client.Call(ctx, c, ops.ListAlarms, ops.Alarms{Waiting: true})
		if err != nil {
			return err
		}
		ids = nil
		for _, a := range waiting.Alarms {
			ids = append(ids, a.ID)
		}
	}
	if len(ids) == 0 {
		fmt.Fprintln(cmd.Root().Writer, "No alarm waits.")
	}
	var failed error
	for _, id := range ids {
		a, err := client.Call(ctx, c, ops.AcknowledgeAlarm, ops.Acknowledging{ID: id, Body: &said})
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		fmt.Fprintf(cmd.Root().Writer, "Acknowledged (%s): %s: %s\n", a.Said, a.Guard, a.Text)
	}
	return failed
}
