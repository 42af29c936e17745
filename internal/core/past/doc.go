// Package past is what crossings came to, as their events tell: what was released, who said so, how long each step
// took, what users met with and what it cost; what is usual for a service, and what stands out in one crossing. It has
// no sentences.
package past
