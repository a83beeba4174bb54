// Package region says what regions are: services of one house, each with its own database and
// volumes, that know one another. It knows nothing of how they are reached.
package region
