package causes

// textAsLength is what ssh says where four characters of a text stand in the place of a packet's length.
const textAsLength = `bad packet length (5[4-9]\d{7}|[6-9]\d{8}|1\d{9}|20\d{8}|21[01]\d{7})\b`

// resolverFails is what the C library says where nothing was found out about a name (gai_strerror(3)).
const resolverFails = `non-recoverable failure in name resolution|ai_(family|socktype) not supported|` +
	`servname not supported|bad value for ai_flags|memory allocation failure|: system error|: unknown error|` +
	`parameter string not correctly encoded|argument buffer too small`

// reachCauses are those between this workstation and the host.
var reachCauses = []entry{
	{NameUnknown, Reach, "The host name does not exist.", You,
		"Check the spelling of HOST.", "host",
		signs{
			shown: []sign{
				{
					`name or service not known|nodename nor servname|no such host( is known)?|enotfound|unknownhostexception|name does not resolve|no address associated with`,
					.9,
				},
				{`could(n't| not) resolve host(name)?\b`, .78},
				{`unable to look up \S+ `, .85},
				{`unknown host`, .7},
			},
			unless: resolverFails + `|temporary failure in name resolution|resolve proxy|resolve hostname ((https?|ssh|git)?|[^. :]+): |\[elsewhere\]|unknown port 65535`,
		}},
	{NetworkDown, Reach, "This workstation has no network: no route, or no name server answers.", You,
		"Connect this workstation to the network, or to the VPN if the host is behind one.", "host",
		signs{
			shown: []sign{
				{`name lookup timed out`, .85},
				{`temporary failure in name resolution|eai_again|try again$`, .85},
				{`network is (unreachable|down)|no route to host|host is (unreachable|down)|machine is not on the network`, .85},
				{`non-recoverable failure in name resolution`, .6}, // a name server refuses
				{`could(n't| not) resolve host: `, .15},
			},
			tell: "Does any other host answer?",
		}},
	{SSHPortBlocked, Reach, "This network blocks the host's SSH port, but the host's other port is open.", You,
		"Make ssh config for HOST use its other port.", "port",
		signs{
			shown: []sign{
				{
					`port 22:? (connection timed out|operation timed out|connection refused|no route|network is unreachable)`,
					.3,
				},
			},
			tell: "Another network, or the host's other port for SSH, lets you through.",
		}},
	{FirewallHere, Reach, "A firewall on this workstation blocks the connection.", Administrator,
		"Ask whoever administers this workstation to allow connections to HOST.", "it says",
		signs{
			shown: []sign{
				{
					`connect to (host \S+|address \S+|\S+) port \d+: (operation not permitted|permission denied)|` +
						`(couldn't connect|failed to connect|connect\S*) [^\n]*: (operation not permitted|permission denied)$`,
					.9,
				},
			},
			tell: "The same command from another workstation on this network works.",
		}},
	{PortRefused, Reach, "Nothing listens on that port of the host.", Host,
		"Check the port. If it is right, the service is down: ask whoever runs HOST.", "port",
		signs{
			shown: []sign{
				{`([^r]: |[^:] |=|^)connection refused|actively refused|econnrefused`, .9},
				{`^abort: error: connection refused`, .7}, // hg does not say whose
				{`after \d{1,3} ms: could(n't| not) connect to server`, .85},
				{`after \d{4} ms: could(n't| not) connect to server`, .35},
				{`failed to connect to \S+ port \d+`, .55},
			},
			unless: `timed out|no route|unreachable|authentication agent|proxy|agent: |errno=|unknown port 65535|\[elsewhere\]`,
		}},
	{PortSilent, Reach, "The host does not answer in time.", Administrator,
		"A firewall may drop the connection, or the host is down. Ask whoever runs this network or HOST.", "port",
		signs{
			shown: []sign{
				{`connection (to|with) \S+ port \d+ timed out|connection time-?out( after)?|ssl connection timeout`, .6},
				{
					`connection timed out|operation timed out|timeout was reached|after \d+ ms: timed out|timed out after|connection attempt timed out|i/o timeout|etimedout`,
					.88,
				},
				{`^timeout, server \S+ not responding`, .7},
				{`after \d{5,} ms: could(n't| not) connect`, .8},
				{`after \d{4} ms: could(n't| not) connect`, .6},
			},
		}},
	{NotSSH, Reach, "Something other than SSH answers on that port.", You,
		"Check the port: SSH usually uses 22.", "port",
		signs{
			shown: []sign{
				{`banner line too long|no ssh version received`, .92},
				{
					`banner line \d+|banner line contains invalid|invalid ssh identification|protocol identifier|remote protocol version|overflow reading version string`,
					.88,
				},
				{`ssh_exchange_identification: http`, .95},
				{textAsLength, .88},
				{`bad packet length`, .35},
				{`connection closed by remote host$`, .1},
			},
		}},
	{ConnectionClosed, Reach, "The host closes the connection without giving a reason.", Host,
		"Wait a minute and try again. If it stays so, ask whoever runs HOST whether this workstation's IP is blocked.", "host",
		signs{
			shown: []sign{
				{`unable to write (request )?to remote|hung up upon initial contact|http/2 stream \d+ was not closed cleanly|transferred a partial file|transfer closed with|stream error in the http/2|(send|recv) failure: |failure when receiving data|failed sending data|connection died, tried|http request error \(incomplete response|(send|recv) error \(`, .62},
				{`kex_exchange_identification: |ssh_exchange_identification: (connection closed|read)`, .82},
				{`connection (was )?(closed by|reset by|reset)|recv failure: connection|software caused connection abort|dropped connection on reset`, .78},
				{
					`broken pipe|empty reply from server|curl (16|18)\b|error in the http2 framing layer|transfer closed with|not allowed at this time|exceeded maxstartups|ssl_error_syscall|unexpected eof|non-properly terminated|early eof|unexpected disconnect|curl 56|curl 92|stream \d+ was not closed cleanly|schannel: server closed abruptly`,
					.75,
				},
				{`getpeername\(\) failed`, .35},
				{`stream ended unexpectedly`, .7},
				{`connection closed by .* \[preauth\]`, .7},
			},
			unless: `unknown port 65535|too many authentication|permission denied|invalid characters|banner line|no space left|http/1|not known|stdio forwarding|rpc failed; http [45]`,
		}},
	{LineDamaged, Reach, "A device between this workstation and the host corrupts the data.", Administrator,
		"Try another network. If that works, tell whoever runs this network that one of its devices corrupts connections.",
		"it says",
		signs{
			shown: []sign{
				{`corrupted padlen`, .88},
				{`message authentication code incorrect|corrupted mac on input|bad record mac|mac failure`, .95},
				{`decryption failed or bad|decryption has failed|message authentication failed|packet corrupt`, .85},
				{`^bad packet length \d|connection corrupted|padding error: need`, .7},
			},
			unless: `banner line|http/1|` + textAsLength,
			tell:   "The same clone over another network, or over the other transport: is it cut off as well?",
		}},
	{NotTLS, Reach, "Something other than HTTPS answers on that port.", You,
		"Check the port: HTTPS usually uses 443.", "port",
		signs{
			shown: []sign{
				{`received http/0\.9 when not allowed`, .7},
				{
					`wrong version number|unexpected tls packet|packet length (too long|error)|record layer failure|first record does not look like a tls|http response to https client|invalid token supplied to the function`,
					.92,
				},
			},
		}},
	{ProxyUnreachable, Reach, "The configured proxy cannot be reached.", You,
		"Check the proxy's host and port, or remove the setting where no proxy is needed.", "through",
		signs{
			shown: []sign{
				{`invalid proxy url|unsupported proxy|failed sending connect to proxy|connection to proxy closed|proxy handshake error|socks[45]: failed receiving|invalid version in initial socks5`, .86},
				{`could(n't| not) resolve proxy`, .97},
				{`failed to connect to (proxy|\S*proxy\S*) `, .85},
				{`unable to connect to proxy|proxy .*(connection refused|timed out)`, .85},
				{`port (3128|8080|8888|1080)\b.*(refused|timed out|connect to server)`, .8},
				{`failed to connect to .*\[elsewhere\]`, .85},
				{`^abort: error: connection refused`, .2},
			},
		}},
	{ProxySignIn, Reach, "The proxy requires signing in.", Administrator,
		"Give the proxy its user name and password, in its URL in git's config or through a credential helper. If you have none, ask whoever runs it.", "through",
		signs{
			shown: []sign{
				{`user was rejected by the socks5`, .93},
				{
					`(response|code|error:?|http) 407\b|proxy authentication required|no authentication method was acceptable|proxy auth`,
					.95,
				},
			},
		}},
	{ProxyRefused, Reach, "The proxy refuses to connect to the host.", Administrator,
		"Ask whoever runs the proxy to allow HOST.", "through",
		signs{
			shown: []sign{
				{
					`http code (4\d\d|5\d\d) from proxy|connect tunnel failed, response|proxy connect aborted|socks5:? .*(not allowed|request rejected|unreachable)|complete socks[45]|socks[45] connection to`,
					.93,
				},
			},
			unless: `response 407|code 407`,
		}},
	{ProxyCommandFailed, Reach, "The configured ProxyCommand fails.", You,
		"Run the command by itself and fix what it reports.", "through",
		signs{
			shown: []sign{{`(exec: )?(nc|ncat|connect|socat)\S*: (command )?not found`, .95},
				{`exec: \S+: not found`, .85}, {`^(nc|ncat|netcat|socat): \S`, .88}, {`unknown port 65535`, .45},
				{`posix_spawnp?: no such file`, .6}},
			unless: `stdio forwarding|channel \d+: open failed`,
		}},
	{JumpFailed, Reach, "The connection fails at the jump host.", You,
		"Check the jump host by itself: unicrux check with its name.", "through",
		signs{
			shown: []sign{
				{`jumphost loop via`, .95}, {`stdio forwarding failed|channel \d+: open failed`, .95}, {`unknown port 65535`, .4},
				{`^ssh: (could not resolve hostname|connect to host)[^\n]*\n(.*\n)*[^\n]*unknown port 65535`, .9}},
			unless: `connect failed: open failed`,
		}},
}
