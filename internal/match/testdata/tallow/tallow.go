// Tallow in Go: TCP, a goroutine for each player, random numbers of the runtime.
package main

import (
	"bufio"
	"fmt"
	"math/rand"
	"net"
	"os"
	"sync"
	"time"
)

func main() {
	if os.Args[1] == "server" {
		l, err := net.Listen("tcp", "127.0.0.1:"+os.Args[2])
		if err != nil {
			panic(err)
		}
		fmt.Println("lit")
		var lock sync.Mutex
		people := map[string]chan string{}
		go func() {
			for tick := range time.Tick(50 * time.Millisecond) {
				lock.Lock()
				for name, to := range people {
					select {
					case to <- fmt.Sprint(tick.UnixMilli(), " ", rand.Intn(1000), " ", name):
					default:
					}
				}
				lock.Unlock()
			}
		}()
		for {
			c, err := l.Accept()
			if err != nil {
				panic(err)
			}
			go func() {
				in := bufio.NewScanner(c)
				in.Scan()
				name, to := in.Text(), make(chan string, 10)
				fmt.Println(name, "came")
				lock.Lock()
				people[name] = to
				lock.Unlock()
				for text := range to {
					fmt.Fprintln(c, text)
				}
			}()
		}
	}
	c, err := net.Dial("tcp", net.JoinHostPort(os.Args[2], os.Args[3]))
	if err != nil {
		panic(err)
	}
	fmt.Println("by the candle")
	fmt.Fprintln(c, os.Args[4])
	said := make(chan string)
	go func() {
		for in := bufio.NewScanner(c); in.Scan(); {
			said <- in.Text()
		}
	}()
	for every := time.Tick(130 * time.Millisecond); ; {
		select {
		case text := <-said:
			fmt.Println(time.Now().Format("05.000"), text)
		case at := <-every:
			fmt.Println(at.Format("05.000"), "waits", rand.Intn(100))
		}
	}
}
