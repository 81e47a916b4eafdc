package sshway

import (
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
)

// gather collects the keys in the client's order: the certificates that settings name, the keys of the agent
// that settings name, then the agent's others unless settings keep them back, then the files (pubkey_prepare of
// the OpenSSH sources).
func (w *Way) gather() {
	var files []Key
	for _, identity := range w.Client.Identities {
		key, ok := w.fromFile(identity)
		if !ok {
			continue
		}
		files = append(files, key)
		if key.Pair != nil && key.Pair.Certificate != nil && len(w.Client.CertFiles) == 0 {
			files = append(files, key.as(key.Pair.Certificate, identity.Origin))
		}
	}
	held := w.agentKeys()
	first := w.certificates(files, held)
	var named, others []Key
	for _, one := range held {
		i := slices.IndexFunc(files, func(k Key) bool { return k.Public != nil && samePublic(k.Public, one.Public) })
		if i >= 0 {
			named, files = append(named, files[i].inAgent(one)), slices.Delete(files, i, i+1)
			continue
		}
		key := Key{Name: agentName(one), Public: one.Public, InAgent: true, signer: one.Signer,
			Origin: sshconfig.Origin{Words: "the agent"}}
		if w.Client.OnlyThose {
			w.Kept = append(w.Kept, key)
		} else {
			others = append(others, key)
		}
	}
	for i, key := range files { // the agent signs for a certificate whose key it holds
		if j := holding(held, key); key.Certificate() != nil && j >= 0 {
			files[i].signer, files[i].Locked = held[j].Signer, false
		}
	}
	w.Keys = slices.Concat(first, named, others, files)
}

// certificates are those that settings name, each with the key that signs for it. ssh can do nothing with one
// whose key it does not find.
func (w *Way) certificates(files []Key, held []agent.Held) []Key {
	var list []Key
	for _, file := range w.Client.CertFiles {
		certificate, err := sshkey.LoadCertificate(file.Path)
		if err != nil {
			w.Left = append(w.Left, LeftOut{Path: file.Path, Origin: file.Origin, Err: err})
			continue
		}
		key := Key{Name: filepath.Base(file.Path), Public: certificate, Locked: true}
		i := slices.IndexFunc(files, func(k Key) bool {
			return k.Public != nil &&
				samePublic(k.Public, certificate.Key)
		})
		if i >= 0 {
			key = files[i]
		}
		if j := holding(held, key); j >= 0 {
			key = key.inAgent(held[j])
		} else if i < 0 {
			continue
		}
		list = append(list, key.as(certificate, file.Origin))
	}
	return list
}

// holding finds the agent's key that signs for one.
func holding(held []agent.Held, key Key) int {
	return slices.IndexFunc(held, func(a agent.Held) bool {
		return key.Public != nil &&
			samePublic(a.Public, sshkey.Plain(key.Public))
	})
}

// as is the key, offered as a certificate.
func (k Key) as(certificate *ssh.Certificate, origin sshconfig.Origin) Key {
	k.Public, k.Origin = certificate, origin
	return k
}

// inAgent is the key, for which an agent signs.
func (k Key) inAgent(held agent.Held) Key {
	k.InAgent, k.Locked, k.signer = true, false, held.Signer
	return k
}
