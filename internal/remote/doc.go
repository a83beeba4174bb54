// Package remote opens connections to addresses that somebody typed in. There is
// one dialer for that, so that there is one place where it is decided what may be
// reached: an address is resolved first, and each number it stands for is looked
// at before anything is sent to it. Link-local addresses, where machines keep
// their own secrets, are never reached, nor what is no address of one machine.
package remote
