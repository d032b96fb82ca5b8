package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/apiclient"
	"jugate/core/durable"
	"jugate/core/proof"
)

// proofAtMost bounds a file with a proof or a head, in bytes.
const proofAtMost = 256 << 10

func (a *app) receiptProve() *cobra.Command {
	var into string
	cmd := &cobra.Command{
		Use: "prove RECEIPT", Short: "Write the proof of a receipt, which anybody can check offline", Args: cobra.ExactArgs(1),
		Long:    "Write the proof of a receipt: the receipt itself, its place in the tree of all records, and the\ntree's head with the signatures of the service and its witnesses (C2SP tlog-proof). Whoever has it\nand the service's key (jugate witness key) can check it with jugate receipt verify, without\nthe service.",
		Example: "  jugate receipt prove 12 --into receipt-12.proof",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := numberOf("a receipt", args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.ProveReceipt(cmd.Context(), id)
			if err != nil {
				return err
			}
			return writeInto(cmd, into, []byte(p.Proof))
		},
	}
	cmd.Flags().StringVar(&into, "into", "", "file to write (default: standard output)")
	return cmd
}

// writeInto writes a file, or standard output if none is named.
func writeInto(cmd *cobra.Command, into string, content []byte) error {
	if into == "" {
		_, err := cmd.OutOrStdout().Write(content)
		return err
	}
	return durable.Write(into, content, 0o644)
}

// keyFlag is the flag that names the key of a service, as a text or a file.
func keyFlag(cmd *cobra.Command, key *string) {
	cmd.Flags().StringVar(key, "key", "", "the service's public key, or a file with it (jugate witness key shows it)")
	cmd.MarkFlagRequired("key")
}

// readKey reads what keyFlag named.
func readKey(cmd *cobra.Command, key string) (string, error) {
	if strings.Contains(key, "+") {
		return key, nil
	}
	text, err := readFile(cmd, key, 1<<12)
	return strings.TrimSpace(string(text)), err
}

func (a *app) receiptVerify() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use: "verify FILE --key KEY", Short: "Check the proof of a receipt, or an export, without the service", Args: cobra.ExactArgs(1),
		Example: "  jugate receipt verify receipt-12.proof --key garden.key\n  jugate receipt verify march.jsonl --key garden.key",
		RunE: func(cmd *cobra.Command, args []string) error {
			key, err := readKey(cmd, key)
			if err != nil {
				return err
			}
			text, err := readFile(cmd, args[0], 1<<30)
			if err != nil {
				return err
			}
			if bytes.HasPrefix(text, []byte("{")) {
				e, err := readExport(bytes.NewReader(text), key)
				if err != nil {
					return err
				}
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d receipts, all of them in the tree of %d leaves that %s has signed\n", len(e.receipts), e.head.Size, e.head.Origin)
				return err
			}
			if len(text) > proofAtMost {
				return errors.New("the file is too long for a proof")
			}
			leaf, head, err := proof.Verify(string(text), key)
			if err != nil {
				return err
			}
			var pretty bytes.Buffer
			if err := json.Indent(&pretty, leaf, "", "  "); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\nis in the tree of %d leaves that %s has signed\n", pretty.String(), head.Size, head.Origin)
			return err
		},
	}
	keyFlag(cmd, &key)
	return cmd
}

func (a *app) receiptHead() *cobra.Command {
	var into string
	cmd := &cobra.Command{
		Use: "head", Short: "Show the signed head of all records, to be kept elsewhere", Args: cobra.NoArgs,
		Long:    "Show the signed head of all records. Whoever keeps it elsewhere can have jugate receipt check --head\nshow later that nothing of now was changed or removed.",
		Example: "  jugate receipt head --into heads/2026-03.head",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			h, err := c.Head(cmd.Context())
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, h)
			}
			return writeInto(cmd, into, []byte(h.Head))
		},
	}
	cmd.Flags().StringVar(&into, "into", "", "file to write (default: standard output)")
	return cmd
}

func (a *app) receiptCheck() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "check", Short: "Go through all records and tell whether one was changed, removed or added", Args: cobra.NoArgs,
		Long:    "Go through all receipts, arrivals and lines of the logbook, and tell whether one was changed, removed\nor added. With an earlier head, which somebody has kept, not even the service can have changed\nanything of then: the proof of that is checked here.",
		Example: "  jugate receipt check\n  jugate receipt check --head heads/2026-02.head",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckLog(cmd.Context())
			if err != nil {
				return err
			}
			if a.output != "table" {
				err = show(cmd, a, check)
			} else if check.Sound {
				forgotten := ""
				if check.Forgotten > 0 {
					forgotten = fmt.Sprintf(" (%d lines whose keeping has ended)", check.Forgotten)
				}
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d receipts, %d arrivals and %d lines of the logbook are as they were written%s\n", check.Receipts, check.Arrivals, check.Lines, forgotten)
			}
			if !check.Sound {
				return errors.New(check.Detail)
			}
			if err != nil || file == "" {
				return err
			}
			return checkAgainst(cmd, c, file)
		},
	}
	cmd.Flags().StringVar(&file, "head", "", "file with an earlier head")
	return cmd
}

// checkAgainst has the service prove that its records have grown out of an earlier head.
func checkAgainst(cmd *cobra.Command, c *apiclient.Client, file string) error {
	text, err := readFile(cmd, file, proofAtMost)
	if err != nil {
		return err
	}
	keys, err := c.LogKeys(cmd.Context())
	if err != nil {
		return err
	}
	then, err := proof.Open(string(text), keys.Log)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	g, err := c.Growth(cmd.Context(), then.Size)
	if err != nil {
		return err
	}
	now, err := proof.Open(g.Head, keys.Log)
	if err != nil {
		return err
	}
	path := make([]proof.Hash, len(g.Path))
	for i, h := range g.Path {
		if len(h) != len(path[i]) {
			return proof.ErrProof
		}
		path[i] = proof.Hash(h)
	}
	if err := proof.HasGrown(path, then, now); err != nil {
		return fmt.Errorf("the first %d leaves are not those of %s: %w", then.Size, file, err)
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "the %d leaves of %s are all there, unchanged, among the %d of now\n", then.Size, file, now.Size)
	return err
}

func (a *app) receiptRestored() *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use: "restored --why TEXT", Short: "Say that the records were restored from a backup, and what was lost with that", Args: cobra.NoArgs,
		Long:    "Say that the records were restored from a backup. Without that nobody can tell a restore from a\nforgery: a line of the logbook names the head that was lost, who says so, and why. Witnesses go on\nonce somebody there has confirmed it (jugate witness confirm).",
		Example: `  jugate receipt restored --why "the disk broke; the backup of Sunday night"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			h, err := c.Restored(cmd.Context(), why)
			if err != nil {
				return err
			}
			return show(cmd, a, h, field{"leaves", fmt.Sprint(h.Leaves)}, field{"signed", when(h.At)})
		},
	}
	cmd.Flags().StringVar(&why, "why", "", "why, for those who read the logbook and for witnesses")
	cmd.MarkFlagRequired("why")
	return cmd
}
