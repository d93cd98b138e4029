package demo

import (
	"bytes"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// objects is an object store as small as it can be: one bucket, held in memory, that
// knows names but no signatures. What counts is that it gives a name once.
type objects struct {
	mutex   sync.Mutex
	held    map[string]*object
	uploads map[string]*upload
}

type object struct {
	data []byte
	tag  string
	at   time.Time
	meta http.Header
}

type upload struct {
	key   string
	meta  http.Header
	parts map[int][]byte
}

const bucket = "archive"

func (p *Places) startObjects(string) error {
	address, err := p.serve(&objects{held: map[string]*object{}, uploads: map[string]*upload{}})
	p.Objects = address + "/" + bucket
	return err
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, "<Error><Code>%s</Code><Message>%s</Message></Error>", code, code)
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/xml")
	_ = xml.NewEncoder(w).Encode(v)
}

func (o *objects) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.Header.Get("Authorization"), "Credential="+PlacesName+"/") {
		refuse(w, http.StatusForbidden, "InvalidAccessKeyId")
		return
	}
	name, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if name != bucket {
		refuse(w, http.StatusNotFound, "NoSuchBucket")
		return
	}
	body, err := io.ReadAll(r.Body)
	if sum := sha256.Sum256(body); err != nil || len(r.Header.Get("X-Amz-Content-Sha256")) == 64 &&
		r.Header.Get("X-Amz-Content-Sha256") != hex.EncodeToString(sum[:]) {
		refuse(w, http.StatusBadRequest, "XAmzContentSHA256Mismatch")
		return
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	q := r.URL.Query()
	switch {
	case key == "" && q.Has("location"):
		answer(w, struct {
			XMLName xml.Name `xml:"LocationConstraint"`
		}{})
	case key == "" && q.Has("uploads"):
		answer(w, struct {
			XMLName xml.Name `xml:"ListMultipartUploadsResult"`
		}{})
	case key == "" && r.Method == http.MethodGet:
		o.list(w, q.Get("prefix"), q.Get("delimiter"))
	case key == "":
		w.WriteHeader(http.StatusOK)
	case r.Method == http.MethodPost || q.Has("uploadId"):
		o.inParts(w, r, key, body)
	case r.Method == http.MethodPut:
		o.put(w, r, key, body, r.Header)
	case r.Method == http.MethodDelete:
		delete(o.held, key)
		w.WriteHeader(http.StatusNoContent)
	default:
		o.get(w, r, key)
	}
}

// put keeps an object unless its condition does not hold (RFC 9110 section 13.1).
func (o *objects) put(w http.ResponseWriter, r *http.Request, key string, data []byte, meta http.Header) bool {
	there := o.held[key]
	if r.Header.Get("If-None-Match") == "*" && there != nil {
		refuse(w, http.StatusPreconditionFailed, "PreconditionFailed")
		return false
	}
	if tag := strings.Trim(r.Header.Get("If-Match"), `"`); tag != "" && (there == nil || tag != there.tag) {
		refuse(w, http.StatusPreconditionFailed, "PreconditionFailed")
		return false
	}
	sum := md5.Sum(data)
	one := &object{data: data, tag: hex.EncodeToString(sum[:]), at: time.Now().UTC(), meta: http.Header{}}
	for k, v := range meta {
		if strings.HasPrefix(k, "X-Amz-Meta-") {
			one.meta[k] = v
		}
	}
	o.held[key] = one
	w.Header().Set("ETag", `"`+one.tag+`"`)
	return true
}

func (o *objects) get(w http.ResponseWriter, r *http.Request, key string) {
	one := o.held[key]
	if one == nil {
		refuse(w, http.StatusNotFound, "NoSuchKey")
		return
	}
	if tag := strings.Trim(r.Header.Get("If-Match"), `"`); tag != "" && tag != one.tag {
		refuse(w, http.StatusPreconditionFailed, "PreconditionFailed")
		return
	}
	maps.Copy(w.Header(), one.meta)
	w.Header().Set("ETag", `"`+one.tag+`"`)
	w.Header().Set("Last-Modified", one.at.Format(http.TimeFormat))
	w.Header().Set("Content-Length", strconv.Itoa(len(one.data)))
	if r.Method == http.MethodGet {
		_, _ = w.Write(one.data)
	}
}

func (o *objects) inParts(w http.ResponseWriter, r *http.Request, key string, body []byte) {
	q := r.URL.Query()
	if q.Has("uploads") {
		id := strings.ToLower(rand.Text())
		o.uploads[id] = &upload{key: key, meta: r.Header.Clone(), parts: map[int][]byte{}}
		answer(w, struct {
			XMLName     xml.Name `xml:"InitiateMultipartUploadResult"`
			Bucket, Key string
			UploadID    string `xml:"UploadId"`
		}{Bucket: bucket, Key: key, UploadID: id})
		return
	}
	u := o.uploads[q.Get("uploadId")]
	switch {
	case u == nil || u.key != key:
		refuse(w, http.StatusNotFound, "NoSuchUpload")
	case r.Method == http.MethodDelete:
		delete(o.uploads, q.Get("uploadId"))
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodPut:
		n, _ := strconv.Atoi(q.Get("partNumber"))
		u.parts[n] = body
		sum := md5.Sum(body)
		w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:])+`"`)
	default:
		var all bytes.Buffer
		for _, n := range slices.Sorted(maps.Keys(u.parts)) {
			all.Write(u.parts[n])
		}
		if o.put(w, r, key, all.Bytes(), u.meta) {
			delete(o.uploads, q.Get("uploadId"))
			answer(w, struct {
				XMLName           xml.Name `xml:"CompleteMultipartUploadResult"`
				Bucket, Key, ETag string
			}{Bucket: bucket, Key: key, ETag: o.held[key].tag})
		}
	}
}

func (o *objects) list(w http.ResponseWriter, prefix, delimiter string) {
	type content struct {
		Key, ETag    string
		Size         int
		LastModified string
	}
	type common struct{ Prefix string }
	result := struct {
		XMLName        xml.Name `xml:"ListBucketResult"`
		Name, Prefix   string
		IsTruncated    bool
		Contents       []content
		CommonPrefixes []common
	}{Name: bucket, Prefix: prefix}
	for _, key := range slices.Sorted(maps.Keys(o.held)) {
		rest, ok := strings.CutPrefix(key, prefix)
		if !ok {
			continue
		}
		if delimiter != "" {
			if at := strings.Index(rest, delimiter); at >= 0 {
				p := common{prefix + rest[:at+len(delimiter)]}
				if !slices.Contains(result.CommonPrefixes, p) {
					result.CommonPrefixes = append(result.CommonPrefixes, p)
				}
				continue
			}
		}
		one := o.held[key]
		result.Contents = append(result.Contents,
			content{key, `"` + one.tag + `"`, len(one.data), one.at.Format("2006-01-02T15:04:05.000Z")})
	}
	answer(w, result)
}
