// Ferry is a small game over TCP, for trying the program where nothing else is: every
// player steers a boat along a line, by control lines.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"sync"
	"time"
)

type boat struct {
	Name string
	X    float64
	Move float64 `json:"-"`
}

var (
	began = time.Now()
	lock  sync.Mutex
)

func tell(format string, args ...any) {
	fmt.Printf(`{"t":%.6f,%s}`+"\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
}

func main() {
	if os.Args[1] == "serve" {
		serve(os.Args[2])
	} else {
		play(os.Args[2], os.Args[3])
	}
}

func serve(at string) {
	listener, err := net.Listen("tcp", at)
	if err != nil {
		panic(err)
	}
	go untilStop()
	boats := map[net.Conn]*boat{}
	go func() {
		for range time.Tick(50 * time.Millisecond) {
			lock.Lock()
			var list []boat
			for _, b := range boats {
				b.X += b.Move * 0.2
				tell(`"state":{"boat/%s":{"x":%.3f,"y":0}}`, b.Name, b.X)
				list = append(list, *b)
			}
			text, _ := json.Marshal(list)
			for conn := range boats {
				fmt.Fprintf(conn, "%s\n", text)
			}
			lock.Unlock()
		}
	}()
	for {
		conn, err := listener.Accept()
		if err != nil {
			panic(err)
		}
		go func() {
			lines := bufio.NewScanner(conn)
			for lines.Scan() {
				var say struct {
					Name string
					Move float64
				}
				if json.Unmarshal(lines.Bytes(), &say) != nil {
					continue
				}
				lock.Lock()
				if b := boats[conn]; b == nil {
					boats[conn] = &boat{Name: say.Name}
					tell(`"joined":%q,"entity":"boat/%s"`, say.Name, say.Name)
				} else {
					b.Move = say.Move
				}
				lock.Unlock()
			}
			lock.Lock()
			if b := boats[conn]; b != nil {
				tell(`"left":%q,"despawned":["boat/%s"]`, b.Name, b.Name)
				delete(boats, conn)
			}
			lock.Unlock()
		}()
	}
}

// untilStop ends the program when it is told to, or nobody is there to tell it.
func untilStop() {
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		if lines.Text() == `{"do":"stop"}` {
			os.Exit(0)
		}
	}
}

func play(server, name string) {
	conn, err := net.Dial("tcp", server)
	if err != nil {
		panic(err)
	}
	fmt.Fprintf(conn, "{\"name\":%q}\n", name)
	go func() {
		in := false
		lines := bufio.NewScanner(conn)
		for lines.Scan() {
			var list []boat
			if json.Unmarshal(lines.Bytes(), &list) != nil {
				continue
			}
			if !in {
				in = true
				tell(`"joined":%q,"entity":"boat/%s"`, name, name)
			}
			state := ""
			for i, b := range list {
				if i > 0 {
					state += ","
				}
				state += fmt.Sprintf(`"boat/%s":{"x":%.3f,"y":0}`, b.Name, b.X)
			}
			tell(`"full":true,"state":{%s}`, state)
		}
	}()
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var say struct {
			Do   string
			Move float64
		}
		if json.Unmarshal(lines.Bytes(), &say) != nil {
			continue
		}
		switch say.Do {
		case "input":
			fmt.Fprintf(conn, "{\"move\":%g}\n", say.Move)
		case "leave":
			tell(`"left":%q`, name)
			conn.Close()
		case "stop":
			os.Exit(0)
		}
	}
}
