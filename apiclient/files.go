package apiclient

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
)

// Files lists what is in a folder of a version.
func (c *Client) Files(ctx context.Context, version string, partition int, folder string) (api.Page[api.ImageFile], error) {
	return list[api.ImageFile](ctx, c, versionPath(version, "files"), List{Filter: map[string]string{"partition": strconv.Itoa(partition), "folder": folder}})
}

// File writes a file of a version.
func (c *Client) File(ctx context.Context, version string, partition int, path string, to io.Writer) error {
	q := url.Values{"partition": {strconv.Itoa(partition)}, "path": {path}}
	resp, err := c.send(ctx, http.MethodGet, "/api/v1/"+versionPath(version, "file")+"?"+q.Encode(), nil, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(to, resp.Body); err != nil {
		return fmt.Errorf("the file has not come as a whole: %w", err)
	}
	return nil
}

// CompareFiles tells which files of a partition differ between two versions.
func (c *Client) CompareFiles(ctx context.Context, earlier, later string, partition int) (api.FilesCompared, error) {
	return one[api.FilesCompared](ctx, c, http.MethodGet, fmt.Sprintf("%s?partition=%d", versionPath(earlier, "diff/"+url.PathEscape(later)+"/files"), partition), nil)
}
