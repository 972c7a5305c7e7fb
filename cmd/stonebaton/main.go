// Command stonebaton is the service and its client.
package main

func main() {}
