// Command stonebaton is the service and its client.
package main

import "stonebaton.example/mason"

func main() { mason.Main() }
