package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/agent"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/sim"
)

func simulateCommand(a *app) *cobra.Command {
	var w sim.Workstation
	var addresses []string
	var memory, speed string
	cmd := &cobra.Command{
		Use: "simulate --address ADDRESS --disk FILE", Short: "Run a simulated workstation: the agent over a disk file and a made-up hardware address", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, text := range addresses {
				address, err := hwaddr.Parse(text)
				if err != nil {
					return usageError{err}
				}
				w.Addresses = append(w.Addresses, address)
			}
			if w.Firmware != "UEFI" && w.Firmware != "BIOS" {
				return usageError{fmt.Errorf("--firmware is UEFI or BIOS, not %q", w.Firmware)}
			}
			bytes, err := humanize.ParseBytes(memory)
			if err != nil {
				return usageError{fmt.Errorf("--memory: %w", err)}
			}
			w.Memory = int64(bytes)
			if w.Loss < 0 || w.Loss > 1 {
				return usageError{errors.New("--loss is a share from 0 to 1")}
			}
			if speed != "" {
				perSecond, err := humanize.ParseBytes(speed)
				if err != nil || perSecond == 0 {
					return usageError{fmt.Errorf("--disk-speed: %q is not a number of bytes a second (such as 2MB)", speed)}
				}
				w.DiskSpeed = float64(perSecond)
			}
			certificate, err := os.ReadFile(a.authority)
			if err != nil {
				return fmt.Errorf("the authority's certificate: %w", err)
			}
			c, err := apiclient.ForAgent(a.server, certificate)
			if err != nil {
				return usageError{err}
			}
			err = agent.New(c, &w, agent.Options{Show: agent.Screen(cmd.OutOrStdout())}).Run(cmd.Context())
			if errors.Is(err, context.Canceled) || errors.Is(err, agent.ErrLeft) {
				return nil // that is how it ends
			}
			return err
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&addresses, "address", nil, "hardware address of each network card")
	flags.StringSliceVar(&w.Disks, "disk", nil, "file of each disk")
	flags.IntVar(&w.SectorSize, "sector-size", 512, "sector size of the disks in bytes")
	flags.StringVar(&w.Maker, "maker", "Alder Works", "maker to report")
	flags.StringVar(&w.Model, "model", "A310", "model to report")
	flags.StringVar(&w.Serial, "serial", "", "serial number to report")
	flags.StringVar(&w.Firmware, "firmware", "UEFI", "firmware to report: UEFI or BIOS")
	flags.StringVar(&memory, "memory", "8GiB", "memory to report")
	flags.StringVar(&w.Interface, "interface", "lo", "network interface that carries the multicast")
	flags.Float64Var(&w.Loss, "loss", 0, "share of received multicast packets to lose; 1 hears nothing")
	flags.StringVar(&speed, "disk-speed", "", "bytes a second that the disks take, such as 2MB (default: as fast as they can)")
	cmd.MarkFlagRequired("address")
	return cmd
}
