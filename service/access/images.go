package access

import (
	"context"
	"strings"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

// Recipients tells who may receive an image.
func (a *Access) Recipients(ctx context.Context, image string) (api.Recipients, error) {
	out := api.Recipients{Groups: []string{}, Addresses: []string{}, Models: []string{}}
	if _, err := a.Records.Version(ctx, roster.Ref{Image: image}); err != nil {
		return out, err
	}
	lines, err := a.Records.Recipients(ctx, image)
	for _, l := range lines {
		list := map[string]*[]string{"group": &out.Groups, "address": &out.Addresses, "model": &out.Models}[l.Kind]
		*list = append(*list, l.Value)
	}
	return out, err
}

// SetRecipients says who may receive an image; with nobody named it goes to everybody.
func (a *Access) SetRecipients(ctx context.Context, image string, in api.Recipients) error {
	lines, err := a.recipientLines(ctx, in)
	if err != nil {
		return err
	}
	return a.Records.SetRecipients(ctx, image, lines)
}

// ImagesFor names the images that a workstation may receive.
func (a *Access) ImagesFor(ctx context.Context, workstation int64) ([]string, error) {
	all := []string{}
	images, _, err := a.Records.Images(ctx, nil, false, records.Page{Limit: 100})
	if err != nil {
		return nil, err
	}
	for _, v := range images {
		may, err := a.Records.MayReceive(ctx, v.Image, workstation)
		if err != nil {
			return nil, err
		}
		if may {
			all = append(all, v.Image)
		}
	}
	return all, nil
}

// MayReceive refuses workstations that an image's list does not name.
func (a *Access) MayReceive(ctx context.Context, image string, targets []records.Workstation) error {
	var not []string
	for _, w := range targets {
		may, err := a.Records.MayReceive(ctx, image, w.ID)
		if err != nil {
			return err
		}
		if !may {
			not = append(not, w.Name)
		}
	}
	if not != nil {
		return fault.Conflict.Errorf("the list of who may receive %s does not name %s", image, strings.Join(not, ", "))
	}
	return nil
}

// recipientLines are the lines of a list, checked: a group that is not there would
// quietly let nobody in.
func (a *Access) recipientLines(ctx context.Context, in api.Recipients) (lines []records.Recipient, err error) {
	for _, g := range in.Groups {
		if _, err := a.Records.Group(ctx, g); err != nil {
			return nil, err
		}
		lines = append(lines, records.Recipient{Kind: "group", Value: g})
	}
	for _, text := range in.Addresses {
		address, err := hwaddr.Parse(text)
		if err != nil {
			return nil, err
		}
		lines = append(lines, records.Recipient{Kind: "address", Value: address.String()})
	}
	for _, m := range in.Models {
		lines = append(lines, records.Recipient{Kind: "model", Value: m})
	}
	return lines, nil
}
