package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"inktray.example/inktray/internal/backup"
	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/sftp"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/replica"
)

// placeOptions say where a replica is, and what opens it.
type placeOptions struct {
	place, user, region, hostKey, authority string
	secretFile, passphraseFile              string
	every, keep, lease                      time.Duration
	machine                                 string
	late                                    time.Duration // 0 for the usual
}

const (
	placeHelp = "a folder (/mnt/replica), sftp://host/folder, https://host/folder for WebDAV, or s3+https://host/bucket " +
		"for an object store"
	replicaSecret     = "INKTRAY_REPLICA_SECRET"
	replicaPassphrase = "INKTRAY_REPLICA_PASSPHRASE"
)

// openFlags are those that every command needs that reads a replica.
func (o *placeOptions) openFlags(f *pflag.FlagSet) {
	f.StringVar(&o.user, "replica-user", "",
		"name with which that server is signed in to; for an object store the access key")
	f.StringVar(&o.secretFile, "replica-secret-file", "",
		"file with the password, the private key (SFTP) or the secret key; without it "+replicaSecret)
	f.StringVar(&o.passphraseFile, "replica-passphrase-file", "",
		"file with the passphrase that opens the replica; without it "+replicaPassphrase)
	f.StringVar(&o.region, "replica-region", "", "region of the object store, where it has any")
	f.StringVar(&o.hostKey, "replica-host-key", "", "fingerprint of the SFTP server's key, as SHA256:…")
	f.StringVar(&o.authority, "replica-authority", "",
		"file with the certificate of an authority that is trusted for that server, too, PEM")
}

// writeFlags are those of a service that writes one.
func (o *placeOptions) writeFlags(f *pflag.FlagSet) {
	f.DurationVar(&o.every, "replica-every", time.Second, "how often Ink Tray writes it when nothing waits for it")
	f.DurationVar(&o.keep, "replica-keep", 7*24*time.Hour, "how long earlier states can be restored from it")
	f.DurationVar(&o.lease, "lease", 0, "let a standby take over once this machine has been silent for so long, such as "+
		"6s; 0 lets none, and is 6s for inktray standby")
	f.StringVar(&o.machine, "machine", "", "how this machine is called where several are shown; without it its host name")
}

// unasked reads a secret out of a file or the environment, without asking.
func unasked(read func(file string) ([]byte, error), file, env string) (string, error) {
	if file == "" {
		return os.Getenv(env), nil
	}
	data, err := read(file)
	return strings.TrimRight(string(data), "\r\n"), err
}

// check says what is wrong with the options, before anything is opened.
func (o *placeOptions) check() error {
	switch {
	case o.place == "" && o.lease > 0:
		return &exitError{exitUsage, "--lease needs a replica that a standby can take over; give it a place with --replica"}
	case o.place == "":
		return nil
	case o.lease != 0 && o.lease < 2*time.Second:
		return &exitError{exitUsage, fmt.Sprintf("--lease %v is too short to be renewed in time; give it 2s or more",
			o.lease)}
	case o.every < 100*time.Millisecond:
		return &exitError{exitUsage, "--replica-every is 100ms or more"}
	case o.keep < time.Hour:
		return &exitError{exitUsage, "--replica-keep is 1h or more"}
	}
	_, passphrase, err := o.open(os.TempDir(), nil)
	if err == nil && passphrase == "" {
		return &exitError{exitUsage, "the replica is sealed with a passphrase; give it in a file " +
			"(--replica-passphrase-file) or in " + replicaPassphrase}
	}
	if err == nil {
		_, err = (&backup.Seal{Passphrase: passphrase}).Recipients()
	}
	var wrong *backup.SealError
	if errors.As(err, &wrong) {
		return &exitError{exitUsage, fmt.Sprintf("for the replica (--replica-passphrase-file or %s), %s", replicaPassphrase,
			wrong.Problem)}
	}
	return err
}

// opens says whether the passphrase opens the replica that is there. A place that cannot be reached stops no start.
func (o *placeOptions) opens() error {
	if o.place == "" {
		return nil
	}
	staging, err := os.MkdirTemp("", "inktray-check-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(staging)
	p, passphrase, err := o.open(staging, nil)
	if err != nil {
		return nil // it is told already
	}
	defer p.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := replica.Try(ctx, p, passphrase); errors.Is(err, replica.ErrPassphrase) {
		return fmt.Errorf("%s: %w", p, err)
	}
	return nil
}

// name is how this machine is called.
func (o *placeOptions) name() string {
	if o.machine != "" {
		return o.machine
	}
	name, err := os.Hostname()
	if err != nil {
		return "this machine"
	}
	return name
}

// open gives the place, and the passphrase. staging is a folder for what is on its way into an object store.
func (o *placeOptions) open(staging string, resolver *net.Resolver) (p replica.Place, passphrase string, err error) {
	if passphrase, err = unasked(os.ReadFile, o.passphraseFile, replicaPassphrase); err != nil {
		return nil, "", err
	}
	secret, err := unasked(os.ReadFile, o.secretFile, replicaSecret)
	if err != nil {
		return nil, "", err
	}
	authority := ""
	if o.authority != "" {
		pem, err := os.ReadFile(o.authority)
		if err != nil {
			return nil, "", err
		}
		authority = string(pem)
	}
	if p, err = o.at(secret, authority, staging, resolver); err != nil {
		return nil, "", &exitError{exitUsage, fmt.Sprintf("%q is not a place for a replica: %v", o.place, err)}
	}
	return p, passphrase, nil
}

func (o *placeOptions) at(secret, authority, staging string, resolver *net.Resolver) (replica.Place, error) {
	scheme, _, remote := strings.Cut(o.place, "://")
	if !remote {
		if !filepath.IsAbs(o.place) {
			return nil, errors.New("give the whole path of the folder, from its beginning, or the address of a server")
		}
		return replica.Folder(o.place), nil
	}
	if !slices.Contains([]string{"sftp", "https", "http", "s3+https", "s3+http"}, scheme) {
		return nil, fmt.Errorf("it begins with %s://; use %s", scheme, placeHelp)
	}
	server, path, err := reach.ParseURL(strings.TrimPrefix(o.place, "s3+"), "https", "http", "sftp")
	if err != nil {
		return nil, err
	}
	server.Resolver, server.Authority = resolver, authority
	switch scheme {
	case "sftp":
		return replica.On(sftp.New(sftp.Config{Server: server, Path: path, Username: o.user, Secret: secret,
			HostKey: o.hostKey})), nil
	case "https", "http":
		return replica.On(webdav.New(webdav.Config{Server: server, Path: path, Username: o.user, Password: secret})), nil
	}
	return replica.On(s3.New(s3.Config{Server: server, Path: path, Name: o.user, Secret: secret, Region: o.region,
		Spool: func() (disk.FS, error) {
			if err := os.MkdirAll(staging, 0o700); err != nil {
				return nil, err
			}
			return disk.Root(staging)
		}})), nil
}
