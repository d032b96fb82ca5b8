package web

import (
	"context"
	"io"
	"mime"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// PartitionRef is a partition in a query.
type PartitionRef struct {
	Partition int `query:"partition" required:"true" minimum:"1" maximum:"1024" doc:"Its number" example:"2"`
}

func (s *Server) fileRoutes(h huma.API) {
	const tag = "images"
	lists(s, h, op("GET", "/versions/{version}/files", "list-files", tag, "List what is in a folder of a version"),
		func(ctx context.Context, in *struct {
			VersionRef
			PartitionRef
			Folder string `query:"folder" maxLength:"4096" doc:"Its path; the volume's own by default" example:"etc"`
		}) ([]api.ImageFile, int, error) {
			return uncut(s.Intake.Folder(ctx, in.Ref, in.Partition, in.Folder))
		})
	answers(s, h, op("GET", "/versions/{version}/diff/{other_version}/files", "compare-files", tag, "Tell which files of a partition differ between two versions"),
		func(ctx context.Context, in *struct {
			VersionRef
			PartitionRef
			Other string `path:"other_version" doc:"NAME@VERSION, or NAME for the newest" maxLength:"80" example:"garden-desk@4"`
		}) (api.FilesCompared, error) {
			return s.Intake.CompareFiles(ctx, in.Ref, in.Other, in.Partition)
		})
	huma.Register(h, op("GET", "/versions/{version}/file", "get-file", tag, "Fetch a file of a version"), func(ctx context.Context, in *struct {
		VersionRef
		PartitionRef
		Path string `query:"path" required:"true" maxLength:"4096" doc:"Where it is in the volume" example:"etc/fstab"`
	}) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(c huma.Context) {
			begun := false
			err := s.Intake.File(ctx, in.Ref, in.Partition, in.Path, func(name string, size int64, content io.Reader) error {
				begun = true
				c.SetHeader("Content-Type", "application/octet-stream")
				c.SetHeader("Content-Length", strconv.FormatInt(size, 10))
				c.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
				c.SetStatus(http.StatusOK)
				_, err := io.Copy(c.BodyWriter(), content)
				return err
			})
			switch {
			case err == nil:
			case begun: // what has come is shorter than was said
				s.Log.Warn("a file of a version did not come as a whole", "image", in.Ref, "path", clipped(in.Path), "error", err)
			default:
				p := s.problem(err, "get-file")
				huma.WriteErr(h, c, p.GetStatus(), p.Error())
			}
		}}, nil
	})
}
