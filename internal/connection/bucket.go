package connection

import (
	"net/url"
	"regexp"
	"strings"

	"noemata/internal/core/problem"
)

// Bucket says where in object storage files are, which is asked by Amazon S3's protocol (Amazon Simple Storage Service
// API Reference), and how to sign in to it.
type Bucket struct {
	Name      string `json:"name" doc:"Name of the bucket"`
	Folder    string `json:"folder,omitempty" doc:"What the names of all its files begin with, without a slash at the end; the whole bucket when left out"`
	Endpoint  string `json:"endpoint,omitempty" doc:"URL of the server, as https://storage.example; Amazon's own when left out"`
	Region    string `json:"region,omitempty" doc:"Region; us-east-1 when left out"`
	PathStyle bool   `json:"path_style,omitempty" doc:"Whether the bucket's name is in the path instead of the host's name, as servers of one's own mostly want it"`
	AccessKey string `json:"access_key,omitempty" doc:"Access key to sign in with; what the environment of the service has when left out"`
	SecretKey string `json:"secret_key,omitempty" doc:"Its secret key; kept encrypted and never returned"`
}

// URL is the bucket and the folder, as metadata of tables names them.
func (b Bucket) URL() string {
	return strings.TrimSuffix("s3://"+b.Name+"/"+b.Folder, "/")
}

// BucketFromURL reads name and folder from s3://name/folder.
func BucketFromURL(text string) (name, folder string, err error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return "", "", problem.Newf(problem.Invalid, "Write it as s3://bucket/folder.", "The bucket %q cannot be read.",
			text).In("bucket.name")
	}
	return u.Host, strings.Trim(u.Path, "/"), nil
}

var (
	bucketName   = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)
	bucketFolder = regexp.MustCompile(`^[A-Za-z0-9_.=-]+(/[A-Za-z0-9_.=-]+)*$`)
)

// Check tells whether a bucket's settings can be right, and fills in the usual ones.
func (b Bucket) Check() (Bucket, error) {
	b.Folder = strings.Trim(b.Folder, "/")
	invalid := func(field, what, remedy string) (Bucket, error) {
		return b, problem.New(problem.Invalid, what, remedy).In("bucket." + field)
	}
	if !bucketName.MatchString(b.Name) {
		return invalid("name", "A bucket's name is 3 to 63 lower-case letters, digits, dots and hyphens.", "Correct it.")
	}
	if b.Folder != "" && (!bucketFolder.MatchString(b.Folder) || strings.Contains("/"+b.Folder+"/", "/../") ||
		strings.Contains("/"+b.Folder+"/", "/./")) {
		return invalid("folder", "A folder in a bucket is names of letters, digits, _, ., = and -, with slashes between them.",
			"Correct it.")
	}
	if b.Endpoint != "" {
		u, err := url.Parse(b.Endpoint)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.RawQuery != "" ||
			u.Fragment != "" {
			return invalid("endpoint", "The endpoint is not the URL of a server.", "Write it as https://storage.example.")
		}
		b.Endpoint = strings.TrimSuffix(b.Endpoint, "/")
	}
	if b.Region == "" {
		b.Region = "us-east-1"
	}
	if b.SecretKey != "" && b.AccessKey == "" {
		return invalid("access_key", "A secret key belongs to an access key.", "Give both, or none.")
	}
	return b, nil
}
