// Package container is the stack driver for containers, by way of the Docker
// Engine API.
//
// What it knows of an instance stands in the container's labels, so that nothing
// else has to be kept. To ask for dependencies from where an instance stands, it
// puts a second container with a relay into the instance's network for as long as
// that is needed. It builds no images; it pulls one that the engine does not have.
package container
