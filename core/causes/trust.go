package causes

// trustCauses are those for which the host is not believed to be who it should be.
var trustCauses = []entry{
	{AlgorithmsDiffer, Trust, "The host and this workstation have no encryption algorithm in common.", Host,
		"Update the older of the two: this workstation's ssh, or the host.", "it says",
		signs{
			shown: []sign{
				{`no matching compression|protocol v\.?1 is no longer`, .85},
				{
					`unable to negotiate|no matching (host key|cipher|key exchange|mac)|no hostkey alg|no kex alg|bad server host key|invalid key length|no common algorithm|algorithm negotiation fail`,
					.96,
				},
			},
			unless: `load (pub)?key "?[^"\n]+"?: invalid key length`,
		}},
	{HostCertificateEnded, Trust, "The certificate of the host's key has expired.", Host,
		"Ask whoever runs HOST to have a new certificate signed.", "valid until",
		signs{shown: []sign{{`certificate invalid: expired`, .95}}, unless: `permission denied`}},
	{HostCertificateNotYet, Trust, "The certificate of the host's key is not valid yet.", Host,
		"Check this workstation's clock. If it is right, tell whoever runs HOST.", "valid from",
		signs{shown: []sign{{`certificate invalid: not yet valid`, .95}}, unless: `permission denied`}},
	{HostCertificateOtherName, Trust,
		"The certificate of the host's key is for another name than the one that you use.", You,
		"Use the name in the certificate, or ask whoever runs HOST for a certificate with the name that you use.", "valid for",
		signs{shown: []sign{{`certificate invalid: name is not a listed principal`, .95}},
			unless: `permission denied`}},
	{HostKeyUnknown, Trust, "This is the first contact with the host: ssh does not know its key yet.", You,
		"Store the host's key, which is the one it publishes.", "offered",
		signs{
			shown: []sign{
				{`host key verification failed`, .75},
				{`reject host ?key`, .9},
				{`server key did not validate`, .55},
				{`authenticity of host|no \S+ host key is known for`, .92},
				{
					`host key (is )?not (known|cached)|unknown ?host ?key|host key is unknown|knownhosts: key is unknown|not in the list of known`,
					.9,
				},
			},
			unless: `identification has changed|has changed and you have requested|revoked host key|marked as revoked`,
		}},
	{HostKeyChanged, Trust, "The host has a new key, which it publishes; ssh still has an older one.", You,
		"Store the key that the host publishes now, in place of the old one.", "stored",
		signs{
			shown: []sign{
				{
					`remote host identification has changed|has changed and you have requested strict|host key .*(mismatch|does not match)|knownhosts: key mismatch|possible dns spoofing|host ?key has been changed`,
					.55,
				},
				{`server key did not validate`, .25},
			},
			tell: "Compare the fingerprint in the text with the one that the host publishes: the same means that the change is announced.",
		}},
	{HostKeyWrong, Trust, "The host's key is not the expected one: somebody may be intercepting the connection.", Host,
		"Do not connect. Ask whoever runs HOST, over another channel, whether its key has changed and what its fingerprint is now.", "offered",
		signs{
			shown: []sign{
				{
					`remote host identification has changed|has changed and you have requested strict|host key .*(mismatch|does not match)|knownhosts: key mismatch|possible dns spoofing|host ?key has been changed`,
					.45,
				}, {`host key verification failed`, .12},
			},
			tell: "Compare the fingerprint in the text with the one that the host publishes: another one means that somebody may be intercepting the connection.",
		}},
	{HostKeyRevoked, Trust, "The host's key is revoked on this workstation.", Host,
		"Do not connect. The key was marked as stolen or withdrawn: ask whoever runs HOST for the new one.", "revoked in",
		signs{
			shown: []sign{
				{`was revoked and you have requested strict|key .*(is )?marked as revoked|host key is marked`, .95},
				{
					`revoked host key|host key .*(is|marked as) revoked|marked as revoked|host key \S+ \S+ revoked by file`,
					.97,
				},
			},
		}},
	{
		ClockWrong,
		Trust,
		"This workstation's clock is wrong, so a valid certificate looks expired or not yet valid.",
		You,
		"Set this workstation's clock.",
		"clock here",
		signs{
			shown: []sign{
				{`not yet valid|not activated|not yet activated`, .4},
				{`clock skew|time (is )?too skewed|request expired.*clock`, .9},
				{`certificate has expired|expired`, .05},
			},
			tell: "date: is it right?",
		},
	},
	{
		TLSAuthorityUnknown,
		Trust,
		"No certificate authority (CA) that this workstation trusts has signed the host's certificate.",
		Administrator,
		"If HOST has a CA of its own, get its certificate from whoever runs HOST, over another channel, and set it: unicrux host set HOST authority=FILE.",
		"git trusts",
		signs{
			shown: []sign{
				{
					`certificate (was|has been) revoked|certificate chain may not be available|certificate status verification failed|issuer check`,
					.6,
				},
				{
					`unable to get (local )?issuer|self[- ]signed certificate|signer not trusted|untrusted_root|authority that is not trusted|unknown (certificate )?authority|unable to verify the (first|leaf)|issuer is (unknown|not trusted)|not trusted by|pkix path building failed|valid certification path`,
					.94,
				},
				{
					`(server )?certificate verification failed\. ?CAfile|certificate_verify_failed|certificate verify failed`,
					.6,
				},
				{`certificate problem`, .3},
				{
					`has unexpected fingerprint|unable to verify security of|no loaded ca certificates|public key does not match pinned`,
					.93,
				},
				{`unable to check revocation|revocation (server )?was offline|no_revocation_check`, .6},
			},
			unless: `has expired|not yet valid|not activated|does not match target|subject name matches`,
			tell:   "A browser that opens the host's page shows who signed the certificate, until when it is good, and for which name.",
		},
	},
	{TLSEnded, Trust, "The host's certificate has expired.", Host,
		"Check this workstation's clock. If it is right, tell whoever runs HOST to renew the certificate.", "certificate",
		signs{
			shown: []sign{
				{`expiration date (has passed|verify failed)`, .93},
				{
					`certificate (has )?expired|cert_expired|expired certificate|certificate is expired|has expired or is not yet valid`,
					.93,
				},
				{`(server )?certificate verification failed\. ?CAfile`, .22},
			},
			unless: `self[- ]signed certificate$|token .*expired`,
		}},
	{TLSNotYet, Trust, "The host's certificate is not valid yet: most likely this workstation's clock is slow.", You,
		"Set this workstation's clock.", "today",
		signs{
			shown: []sign{
				{`activation date`, .93}, {`not yet valid|not activated|not yet activated`, .6},
				{`(server )?certificate verification failed\. ?CAfile`, .08}},
			unless: `has expired or is not yet valid`,
		}},
	{TLSName, Trust, "The host's certificate is for another name.", Host,
		"Check the spelling of the host name. If it is right, tell whoever runs HOST.", "asked for",
		signs{
			shown: []sign{
				{`obtain common name from peer|no commonname or subjectaltname|certificate is for `, .9},
				{
					`does not match target host|no alternative certificate subject name|subject name matches target|hostname mismatch|certificate is (only )?valid for .* not|wrong_principal|cert_cn_no_match|hostname .* (doesn.t|does not) match|different domain|certificate does not match|certificate error: certificate is for`,
					.95,
				},
			},
		}},
	{
		TLSWeak,
		Trust,
		"The host's certificate, or one of its CA's, is weaker than this workstation accepts.",
		Host,
		"Ask whoever runs HOST for a certificate with a longer key, or a newer signature.",
		"certificate",
		signs{
			shown: []sign{
				{
					`(ee|ca) (certificate )?key too (weak|small)|(ca )?(md|signature digest algorithm) too weak|certificate\S* .{0,60}insecure algorithm|signature[ _]algorithm[ _](is )?disabled|insecure algorithm (sha1|md5)`,
					.95,
				},
				{`dh key too small`, .5},
			},
		},
	},
	{TLSVersion, Trust, "The host and this workstation have no TLS version in common.", Host,
		"Update the older of the two.", "it says",
		signs{
			shown: []sign{
				{
					`gnutls_handshake\(\) failed: |:ssl routines:|ssl connection (error|failed)|could not (communicate with \S+ using|negotiate a common) `,
					.35,
				},
				{
					`unsupported protocol|protocol version|illegal or unsupported version|no protocols available|inappropriate fallback|unsupported ssl|tls version`,
					.9,
				},
				{`handshake failure|tls fatal alert|no cipher|handshake failed|ssl connect error`, .5},
				{`getpeername\(\) failed`, .45},
				// where the host hangs up before its alert is read
				{`empty reply from server|send failure: (connection reset|broken pipe)`, .1},
			},
			unless: `unsupported ssl backend|certificate (is )?required|bad certificate|unexpected tls packet|repository format|non-properly|protocol version (2|\d) |unknown protocol version|ssh: handshake failed|protocol major versions differ|could not read protocol version|(remote|multiplexing) protocol version|protocol version mismatch|unsupported ssl version \S+: using`,
		}},
	{
		TLSOwnCertificate,
		Trust,
		"The host requires a client certificate, and git sends none that it accepts.",
		Administrator,
		"Get the certificate and its key from whoever runs HOST, and set both: git config http.URL.sslCert FILE, and http.URL.sslKey FILE.",
		"host wants",
		signs{
			words: []string{`no required ssl certificate|client certificate|ssl certificate error`},
			shown: []sign{
				{
					`alert (bad )?certificate( required)?|certificate is required|no required ssl certificate|client certificate (is )?(required|needed)|peer did not return a certificate|ssl certificate was sent|bad_certificate|did not (present|provide) a certificate`,
					.93,
				},
				{`recv error \(-12\)`, .75},
				{`requested url returned error: 400`, .3}, // as some web servers say it
				{`tls fatal alert|alert handshake failure`, .3},
				// it hangs up before the client is done
				{`send failure: (connection reset|broken pipe)|getpeername\(\) failed`, .15},
			},
			unless: `unknown ca`,
		},
	},
}
