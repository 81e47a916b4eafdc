// A conforming OAuth server on loopback, for a public client that signs in on another screen.
// Arguments: certificate, key. It prints its issuer when it is up.
import { readFileSync } from 'node:fs';
import { createServer } from 'node:https';
import Provider from 'oidc-provider';

const [cert, key] = process.argv.slice(2).map((path) => readFileSync(path));
const server = createServer({ cert, key });
server.listen(0, '127.0.0.1', () => {
  const issuer = `https://localhost:${server.address().port}`;
  const provider = new Provider(issuer, {
    clients: [{
      client_id: 'unicrux', token_endpoint_auth_method: 'none', application_type: 'native', redirect_uris: [], response_types: [],
      grant_types: ['urn:ietf:params:oauth:grant-type:device_code', 'refresh_token'],
    }, {
      client_id: 'unicrux-here', token_endpoint_auth_method: 'none', application_type: 'native', redirect_uris: ['http://127.0.0.1/'], response_types: ['code'],
      grant_types: ['authorization_code', 'refresh_token'],
    }],
    scopes: ['openid', 'offline_access', 'repo:read'],
    features: {
      deviceFlow: { enabled: true }, revocation: { enabled: true },
      introspection: { enabled: true, allowedPolicy: () => true },
    },
    issueRefreshToken: async () => true,
    rotateRefreshToken: () => true,
    ttl: { AccessToken: 600, RefreshToken: 3600, DeviceCode: 60, Interaction: 600, Session: 600, Grant: 600 },
  });
  server.on('request', provider.callback());
  console.log(issuer);
});
