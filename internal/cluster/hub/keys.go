package hub

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nkeys"
)

// Role is what a key allows.
type Role string

// The roles.
const (
	Ask  Role = "ask"  // begin campaigns, and say what is played
	Work Role = "work" // play what is asked for
	Look Role = "look" // see campaigns and workers
)

// Roles lists them.
var Roles = []Role{Ask, Work, Look}

const (
	publicKeys        = "keys/public.json"
	authority         = "tls/ca.pem"
	serverCertificate = "tls/server.pem"
	serverKey         = "tls/server.key"
)

// keys are the public halves, by which the hub knows who comes.
type keys struct {
	Public map[Role]string `json:"public"`
}

// KeyFile is the file of a role's key, in the folder of a hub.
func KeyFile(folder string, role Role) string {
	return filepath.Join(folder, "keys", string(role)+".key")
}

// CAFile is the certificate by which others know the hub.
func CAFile(folder string) string { return filepath.Join(folder, authority) }

// ErrThere is the error of keys that are there already.
var ErrThere = errors.New("there are keys already, and who has them would be locked out")

// Init makes keys and a certificate for a hub that is reached by those names and addresses.
func Init(folder string, hosts []string) (public map[Role]string, err error) {
	if _, err := os.Stat(filepath.Join(folder, publicKeys)); err == nil {
		return nil, fmt.Errorf("%s: %w; remove %s to make new ones", folder, ErrThere, filepath.Join(folder, "keys"))
	}
	for _, name := range []string{"keys", "tls"} {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o700); err != nil {
			return nil, err
		}
	}
	if err := certify(folder, hosts); err != nil {
		return nil, err
	}
	k := keys{Public: map[Role]string{}}
	for _, role := range Roles {
		pair, err := nkeys.CreateUser()
		if err != nil {
			return nil, err
		}
		seed, err := pair.Seed()
		if err != nil {
			return nil, err
		}
		if k.Public[role], err = pair.PublicKey(); err != nil {
			return nil, err
		}
		if err := os.WriteFile(KeyFile(folder, role), append(seed, '\n'), 0o600); err != nil {
			return nil, err
		}
	}
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return nil, err
	}
	return k.Public, os.WriteFile(filepath.Join(folder, publicKeys), append(text, '\n'), 0o600) // last: with it they are complete
}

func readKeys(folder string) (*keys, error) {
	text, err := os.ReadFile(filepath.Join(folder, publicKeys))
	if err != nil {
		return nil, err
	}
	k := &keys{}
	if err := json.Unmarshal(text, k); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(folder, publicKeys), err)
	}
	for _, role := range Roles {
		if !nkeys.IsValidPublicUserKey(k.Public[role]) {
			return nil, fmt.Errorf("%s: there is no key to %s", filepath.Join(folder, publicKeys), role)
		}
	}
	return k, nil
}

const validFor = 5 * 365 * 24 * time.Hour

// certify makes an authority and a certificate that it signs; the authority's key is not kept.
func certify(folder string, hosts []string) error {
	now := time.Now()
	ca := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "zwheel hub"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(validFor),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	one := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano() + 1), Subject: pkix.Name{CommonName: "zwheel hub"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(validFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, host := range append([]string{"localhost", "127.0.0.1"}, hosts...) {
		if ip := net.ParseIP(host); ip != nil {
			one.IPAddresses = append(one.IPAddresses, ip)
		} else {
			one.DNSNames = append(one.DNSNames, host)
		}
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	caText, err := x509.CreateCertificate(rand.Reader, ca, ca, &caKey.PublicKey, caKey)
	if err != nil {
		return err
	}
	text, err := x509.CreateCertificate(rand.Reader, one, ca, &key.PublicKey, caKey)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	for _, f := range []struct {
		name, kind string
		text       []byte
		mode       os.FileMode
	}{{authority, "CERTIFICATE", caText, 0o644}, {serverCertificate, "CERTIFICATE", text, 0o644}, {serverKey, "PRIVATE KEY", secret, 0o600}} {
		if err := os.WriteFile(filepath.Join(folder, f.name), pem.EncodeToMemory(&pem.Block{Type: f.kind, Bytes: f.text}), f.mode); err != nil {
			return err
		}
	}
	return nil
}

// permissions are what a role may say and hear. Answers come under a prefix of its own, so that nobody reads those of
// another role. Streams are made by the hub, and by nobody else.
func permissions(role Role) *server.Permissions {
	read := func(streams ...string) (list []string) { // a consumer of one's own, and what ends it
		for _, stream := range streams {
			list = append(list, "$JS.API.CONSUMER.CREATE."+stream+".>", "$JS.API.CONSUMER.INFO."+stream+".>", "$JS.API.CONSUMER.MSG.NEXT."+stream+".>", "$JS.API.CONSUMER.DELETE."+stream+".>")
		}
		return list
	}
	say := append([]string{"$JS.API.INFO", "$JS.API.STREAM.INFO.>", "$JS.API.STREAM.MSG.GET.>", "$JS.API.DIRECT.GET.>", "$JS.FC.>"}, read("KV_zwheel_campaigns", "KV_zwheel_workers")...)
	hear := []string{"_zw_" + string(role) + ".>"}
	switch role {
	case Work:
		hear = append(hear, "zw.far.*", "zw.far.*.*.to")
		say = append(say, "zw.far.*.*.from", "_zw_ask.>", "zw.result.>", "zw.run.>", "zw.alarm.>", "$KV.zwheel_workers.>", "$JS.ACK.ZWHEEL_WORK.>",
			"$JS.API.CONSUMER.DURABLE.CREATE.ZWHEEL_WORK.>", "$JS.API.CONSUMER.CREATE.ZWHEEL_WORK.>", "$JS.API.CONSUMER.INFO.ZWHEEL_WORK.>", "$JS.API.CONSUMER.MSG.NEXT.ZWHEEL_WORK.>")
		say = append(say, read("OBJ_zwheel_builds")...)
	case Ask:
		hear = append(hear, "zw.far.*.*.from")
		say = append(say, "zw.far.*", "zw.far.*.*.to", "zw.work.>", "zw.alarm.>", "$KV.zwheel_campaigns.>", "$KV.zwheel_plans.>", "$O.zwheel_builds.>", "$JS.API.STREAM.PURGE.ZWHEEL_WORK", "$JS.API.STREAM.PURGE.OBJ_zwheel_builds")
		say = append(say, read("ZWHEEL_RESULTS", "OBJ_zwheel_sealed")...)
	}
	return &server.Permissions{Publish: &server.SubjectPermission{Allow: say}, Subscribe: &server.SubjectPermission{Allow: hear}}
}
