//go:build easypassphrase

package chest

// passphraseWork is 1 in the program that the tests run hundreds of times, which opens a chest in no time.
const passphraseWork = 1
