// Package audit looks through what an account has for what may cost it data, money or
// sleep. Its checks are pure: facts in, findings out. A finding says what is so, why that
// matters, what it costs, and one command that mends it.
package audit
