package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	oci "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/bundle"
	"jugate/core/image"
	"jugate/core/proof"
	"jugate/core/slabstore"
	"jugate/registry"
)

// registryFlags say how a registry is reached.
func registryFlags(cmd *cobra.Command) *registry.Options {
	o := &registry.Options{}
	cmd.Flags().StringVar(&o.Credentials, "credentials", "", "file of registry clients that says who you are there (default ~/.docker/config.json)")
	cmd.Flags().BoolVar(&o.PlainHTTP, "plain-http", false, "reach the registry without TLS; one on this machine is in any case")
	return o
}

// pushed is what came of a push.
type pushed struct {
	Version string `json:"version_name"`
	Place   string `json:"place"`
	Digest  string `json:"oci_digest"`
	Blobs   int    `json:"blobs"`
	Sent    int    `json:"blobs_sent"`
	Mounted int    `json:"blobs_mounted"`
	Bytes   int64  `json:"bytes"`
	Moved   int64  `json:"bytes_sent"`
	Signed  string `json:"signed_by"`
}

func (a *app) imagePush() *cobra.Command {
	var mount []string
	var o *registry.Options
	cmd := &cobra.Command{
		Use: "push IMAGE[@VERSION] REGISTRY/REPOSITORY:TAG", Short: "Put a version into an OCI registry, with the service's signature", Args: cobra.ExactArgs(2),
		Long:    "Put a version into an OCI registry, as an artifact of the image specification 1.1. Blobs that are there are not\nsent; those that --mount names are taken over within the registry. The service's signature goes beside it,\nas an artifact that refers to it; jugate image pull --signed-by checks it. Who you are there, the file of\nregistry clients says.",
		Example: "  jugate image push garden-desk@3 registry.fennholt.example/images/garden-desk:3\n  jugate image push garden-desk@3 registry.fennholt.example/alpine/garden-desk:3 --mount images/garden-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			o.From = mount
			to, err := registry.Open(args[1], *o)
			if err != nil {
				return usageError{err}
			}
			p, err := push(cmd, c, args[0], to)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, p)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is at %s (%s)\n%s of %s were sent (%s of %s), %s taken over within the registry; signed by %s\n",
				p.Version, p.Place, p.Digest[:19], count(p.Sent, "blob"), fmt.Sprint(p.Blobs), size(p.Moved), size(p.Bytes), count(p.Mounted, "blob"), p.Signed)
			return err
		},
	}
	o = registryFlags(cmd)
	cmd.Flags().StringArrayVar(&mount, "mount", nil, "a repository of the same registry that may have blobs already")
	return cmd
}

func push(cmd *cobra.Command, c *apiclient.Client, ref string, to *registry.Repository) (out pushed, err error) {
	ctx := cmd.Context()
	v, err := c.Version(ctx, ref)
	if err != nil {
		return out, err
	}
	out.Version = fmt.Sprintf("%s@%d", v.Image, v.Version) // another version may become the newest meanwhile
	man, slabs, err := filesOf(ctx, c, out.Version)
	if err != nil {
		return out, err
	}
	signature, err := c.VersionSignature(ctx, out.Version)
	if err != nil {
		return out, err
	}
	pushing := to.Push(ctx)
	packer := bundle.NewBlobWriter(pushing)
	bar := newMeter(cmd.ErrOrStderr(), "pushing")
	defer bar.end()
	var done int64
	for i, d := range slabs.Distinct() {
		frame, err := c.Slab(ctx, d)
		if err == nil {
			_, err = slabstore.ExpandChecked(nil, frame, d)
		}
		if err == nil {
			err = packer.Put(ctx, d, frame)
		}
		if err != nil {
			return out, fmt.Errorf("slab %d: %w", i, err)
		}
		done += slabs.Slab(i).Length()
		bar.set("pushing", done, man.UsedBytes)
	}
	if err := packer.Finish(man, slabs, out.Version); err != nil {
		return out, err
	}
	if err := to.Sign(ctx, pushing.Top(), signature.Note); err != nil {
		return out, fmt.Errorf("the version is there, and its signature is not: %w", err)
	}
	out.Place, out.Digest, out.Sent, out.Mounted, out.Blobs = to.Name(), pushing.Top().Digest.String(), pushing.Sent, pushing.Mounted, pushing.Sent+pushing.Mounted+pushing.There
	out.Bytes, out.Moved, out.Signed = pushing.Bytes, pushing.SentBytes, keyName(signature.Key)
	return out, nil
}

// keyName is what people call a key by.
func keyName(verifier string) string {
	name, _, _ := strings.Cut(verifier, "+")
	return name
}

// filesOf fetches the manifest and the slab map of a version.
func filesOf(ctx context.Context, c *apiclient.Client, name string) (*image.Manifest, *image.Map, error) {
	text, err := c.Manifest(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, nil, err
	}
	raw, err := c.SlabMap(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	slabs, err := image.ParseMap(raw, man)
	return man, slabs, err
}

// errUnsigned ends a pull of what nobody vouches for.
var errUnsigned = errors.New("nothing was brought in")

func (a *app) imagePull() *cobra.Command {
	var in api.NewImport
	var signedBy []string
	var o *registry.Options
	cmd := &cobra.Command{
		Use: "pull REGISTRY/REPOSITORY:TAG --as IMAGE", Short: "Bring in a version from an OCI registry as the next version of an image", Args: cobra.ExactArgs(1),
		Long:    "Bring in a version from an OCI registry. Only packs with slabs that the store lacks are fetched. With --signed-by,\na version that none of these keys has signed is refused before anything is fetched; a key is the public text\nthat jugate witness key shows at the service that has pushed it, or a file that has it, or own for the\nkey of this service.",
		Example: "  jugate image pull registry.fennholt.example/images/garden-desk:3 --as garden-desk --signed-by alpine.key\n  jugate image pull registry.fennholt.example/images/garden-desk:3 --as garden-desk --signed-by own",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			from, err := registry.Open(args[0], *o)
			if err != nil {
				return usageError{err}
			}
			keys, err := readKeys(cmd.Context(), c, signedBy)
			if err != nil {
				return err
			}
			v, err := pull(cmd, c, from, in, keys)
			if err != nil {
				return err
			}
			if v.Unchanged {
				fmt.Fprintf(cmd.ErrOrStderr(), "nothing has changed since %s@%d, so no version was made; --keep-equal makes one all the same\n", v.Image, v.Version)
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), v)
			}
			return a.printVersion(cmd, v)
		},
	}
	o = registryFlags(cmd)
	cmd.Flags().StringVar(&in.Image, "as", "", "name of the image")
	cmd.Flags().StringVar(&in.Note, "note", "", "what is new in this version")
	cmd.Flags().BoolVar(&in.KeepEqual, "keep-equal", false, "make a version although nothing has changed since the newest one")
	cmd.Flags().StringArrayVar(&signedBy, "signed-by", nil, "a key that must have signed it: its public text, a file that has it, or own; can be given several times")
	cmd.MarkFlagRequired("as")
	cmd.RegisterFlagCompletionFunc("as", a.complete(imageNames))
	return cmd
}

// readKeys reads what --signed-by was given.
func readKeys(ctx context.Context, c *apiclient.Client, given []string) (keys []string, err error) {
	for _, k := range given {
		switch {
		case k == "own":
			own, err := c.LogKeys(ctx)
			if err != nil {
				return nil, err
			}
			k = own.Log
		case proof.CheckVerifier(k) != nil:
			text, err := os.ReadFile(k)
			if err != nil {
				return nil, usageError{fmt.Errorf("--signed-by: %q is neither a key nor a file with one: %w", k, err)}
			}
			k = strings.TrimSpace(string(text))
		}
		if err := proof.CheckVerifier(k); err != nil {
			return nil, usageError{fmt.Errorf("--signed-by: %w", err)}
		}
		keys = append(keys, k)
	}
	return keys, nil
}

func pull(cmd *cobra.Command, c *apiclient.Client, from *registry.Repository, in api.NewImport, keys []string) (v api.Version, err error) {
	ctx := cmd.Context()
	top, err := from.Find(ctx)
	if err != nil {
		return v, err
	}
	p, err := bundle.OpenFrom(from.Source(ctx), top, in.Image)
	if err != nil {
		return v, err
	}
	text, err := p.Manifest.Encode()
	if err != nil {
		return v, err
	}
	if len(keys) > 0 {
		said, err := vouched(ctx, from, top, slabstore.Sum(text).String(), keys)
		if err != nil {
			return v, err
		}
		fmt.Fprintln(cmd.ErrOrStderr(), said)
	}
	into, err := c.BeginImport(ctx, in)
	if err != nil {
		return v, err
	}
	bar := newMeter(cmd.ErrOrStderr(), "pulling")
	defer bar.end()
	if err := sendPacked(ctx, p, into, func(done, total int64) { bar.set("pulling", done, total) }); err != nil {
		return v, err
	}
	return into.Commit(ctx, p.Slabs.Bytes(), text)
}

// vouched checks that one of some keys has signed the version whose manifest has a digest, and says so.
func vouched(ctx context.Context, from *registry.Repository, top oci.Descriptor, digest string, keys []string) (string, error) {
	notes, err := from.Signatures(ctx, top)
	if err != nil {
		return "", fmt.Errorf("%w: its signatures cannot be read: %w", errUnsigned, err)
	}
	for _, n := range notes {
		for _, k := range keys {
			if v, err := proof.OpenVersion(n, k); err == nil && v.Digest == digest {
				return fmt.Sprintf("signed by %s, as %s", keyName(k), v.Name), nil
			}
		}
	}
	return "", fmt.Errorf("%w: %s has %s, and none is by a key that you named, over what is there", errUnsigned, from.Name(), count(len(notes), "signature"))
}
