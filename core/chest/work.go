//go:build !easypassphrase

package chest

// passphraseWork is how hard the passphrases that are set are to guess: 0 is as hard as the library makes it.
const passphraseWork = 0
