package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"noemata/internal/connection"
)

// inBucket are the flags that say where in object storage a lake's files are.
type inBucket struct {
	url   string
	given connection.Bucket
}

func (x *inBucket) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&x.url, "bucket", "", "of a lake: the bucket of object storage (S3) for its files, as s3://bucket/folder")
	f.StringVar(&x.given.Endpoint, "endpoint", "", "URL of the bucket's server, as https://storage.example; Amazon's own "+
		"when left out")
	f.StringVar(&x.given.Region, "region", "", "region of the bucket; us-east-1 when left out")
	f.BoolVar(&x.given.PathStyle, "path-style", false,
		"the bucket's name is in the path, as servers of one's own mostly want it")
	f.StringVar(&x.given.AccessKey, "access-key", "", "access key of the bucket (its secret key is in NOEMATA_SECRET_KEY, "+
		"or a person is asked); what the service's environment has when left out")
	c.MarkFlagsMutuallyExclusive("bucket", "path")
}

// take puts what was given over what there was before.
func (x *inBucket) take(cmd *cobra.Command, before *connection.Bucket) (*connection.Bucket, error) {
	set := cmd.Flags().Changed
	if before == nil && x.url == "" {
		for _, flag := range []string{"endpoint", "region", "path-style", "access-key"} {
			if set(flag) {
				return nil, usageError{fmt.Errorf("--%s is of a bucket: give it by --bucket s3://bucket/folder", flag)}
			}
		}
		return nil, nil
	}
	b := connection.Bucket{}
	if before != nil {
		b = *before
	}
	var err error
	if x.url != "" {
		if b.Name, b.Folder, err = connection.BucketFromURL(x.url); err != nil {
			return nil, err
		}
	}
	for flag, put := range map[string]func(){
		"endpoint": func() { b.Endpoint = x.given.Endpoint }, "region": func() { b.Region = x.given.Region },
		"path-style": func() { b.PathStyle = x.given.PathStyle }, "access-key": func() { b.AccessKey = x.given.AccessKey },
	} {
		if set(flag) {
			put()
		}
	}
	b.SecretKey = os.Getenv("NOEMATA_SECRET_KEY")
	if b.AccessKey != "" && set("access-key") && b.SecretKey == "" && isTerminal(cmd.InOrStdin()) {
		b.SecretKey, err = readSecret(cmd, "Secret key: ")
	}
	return &b, err
}
