package names

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Responder answers questions for names on loopback: those of sites lead to this machine, all others are refused.
type Responder struct {
	Port    int
	servers []*dns.Server
}

// ttl is for how many seconds an answer may be kept.
const ttl = 5

// Respond opens the first port of a range that is free, for UDP and TCP, and answers until Close. knows tells whether a name is one of
// a site's, served whether an ending is one of theirs.
func Respond(from, to int, knows, served func(name string) bool) (*Responder, error) {
	for port := from; port <= to; port++ {
		address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
		packets, err := net.ListenPacket("udp4", address)
		if err != nil {
			continue
		}
		streams, err := net.Listen("tcp4", address)
		if err != nil {
			packets.Close()
			continue
		}
		r := &Responder{Port: port}
		handler := dns.HandlerFunc(func(w dns.ResponseWriter, question *dns.Msg) { w.WriteMsg(answer(question, knows, served)) })
		r.servers = []*dns.Server{{PacketConn: packets, Handler: handler}, {Listener: streams, Handler: handler}}
		for _, server := range r.servers {
			go server.ActivateAndServe()
		}
		return r, nil
	}
	return nil, fmt.Errorf("no port from %d to %d is free", from, to)
}

// Close ends it.
func (r *Responder) Close() {
	for _, server := range r.servers {
		if server.PacketConn != nil {
			server.PacketConn.Close()
		}
		if server.Listener != nil {
			server.Listener.Close()
		}
	}
}

func answer(question *dns.Msg, knows, served func(name string) bool) *dns.Msg {
	reply := new(dns.Msg)
	reply.SetReply(question)
	reply.Authoritative = true
	if len(question.Question) != 1 || question.Opcode != dns.OpcodeQuery {
		return reply.SetRcode(question, dns.RcodeFormatError)
	}
	asked := question.Question[0]
	name := strings.TrimSuffix(strings.ToLower(asked.Name), ".")
	switch {
	case knows(name):
		header := dns.RR_Header{Name: asked.Name, Rrtype: asked.Qtype, Class: dns.ClassINET, Ttl: ttl}
		switch asked.Qtype {
		case dns.TypeA:
			reply.Answer = append(reply.Answer, &dns.A{Hdr: header, A: net.IPv4(127, 0, 0, 1)})
		case dns.TypeAAAA:
			reply.Answer = append(reply.Answer, &dns.AAAA{Hdr: header, AAAA: net.IPv6loopback})
		}
	case served(name):
		reply.SetRcode(question, dns.RcodeNameError)
	default: // nothing of ours
		reply.SetRcode(question, dns.RcodeRefused)
	}
	return reply
}

// Asked is what a site's name server goes by.
type Asked struct {
	// Ours tells whether a name is that of a site, which leads to this machine.
	Ours func(name string) bool
	// May tells whether any other may be looked up.
	May func(name string) bool
	// Found is told what was found of one that may, nothing where there is none, and of those that may not.
	Found func(name string, addresses []netip.Addr, may bool)
}

// Resolve answers a site's questions on sockets of its own, until they are closed: names of ours lead to this machine; all others are
// looked up as this machine would, or, where they may not be, are not known.
func Resolve(packets net.PacketConn, streams net.Listener, by Asked) {
	nobody := func(string) bool { return false }
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, question *dns.Msg) {
		reply := answer(question, func(name string) bool {
			return name == "localhost" || strings.HasSuffix(name, ".localhost") || by.Ours(name)
		}, nobody)
		if reply.Rcode == dns.RcodeRefused {
			name := strings.TrimSuffix(strings.ToLower(question.Question[0].Name), ".")
			may := by.May(name)
			if reply.Authoritative = false; may {
				reply = lookUp(question, reply)
			} else {
				reply.Rcode = dns.RcodeNameError
			}
			found := addresses(reply)
			if question.Question[0].Qtype == dns.TypeA || len(found) > 0 { // asked for both kinds, a name may have no address of the other
				by.Found(name, found, may)
			}
		}
		w.WriteMsg(reply)
	})
	for _, server := range []*dns.Server{{PacketConn: packets, Handler: handler}, {Listener: streams, Handler: handler}} {
		go server.ActivateAndServe()
	}
}

func addresses(reply *dns.Msg) (found []netip.Addr) {
	for _, each := range reply.Answer {
		var raw net.IP
		switch record := each.(type) {
		case *dns.A:
			raw = record.A
		case *dns.AAAA:
			raw = record.AAAA
		}
		if address, ok := netip.AddrFromSlice(raw); ok {
			found = append(found, address.Unmap())
		}
	}
	return found
}

// looking bounds how many names are looked up for sites at a time.
var looking = make(chan struct{}, 64)

// lookUp asks this machine for an address, and its name servers for anything else.
func lookUp(question, reply *dns.Msg) *dns.Msg {
	looking <- struct{}{}
	defer func() { <-looking }()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	reply.RecursionAvailable = true
	reply.Rcode = dns.RcodeSuccess
	asked := question.Question[0]
	if asked.Qtype != dns.TypeA && asked.Qtype != dns.TypeAAAA {
		if config, err := dns.ClientConfigFromFile("/etc/resolv.conf"); err == nil && len(config.Servers) > 0 {
			if found, _, err := new(dns.Client).ExchangeContext(ctx, question, net.JoinHostPort(config.Servers[0], config.Port)); err == nil {
				return found
			}
		}
		reply.Rcode = dns.RcodeServerFailure
		return reply
	}
	family := map[uint16]string{dns.TypeA: "ip4", dns.TypeAAAA: "ip6"}[asked.Qtype]
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, family, asked.Name)
	var fault *net.DNSError
	switch {
	case errors.As(err, &fault) && fault.IsNotFound:
		reply.Rcode = dns.RcodeNameError
	case err != nil:
		reply.Rcode = dns.RcodeServerFailure
	}
	for _, address := range addresses {
		header := dns.RR_Header{Name: asked.Name, Rrtype: asked.Qtype, Class: dns.ClassINET, Ttl: ttl}
		if asked.Qtype == dns.TypeA {
			reply.Answer = append(reply.Answer, &dns.A{Hdr: header, A: address.AsSlice()})
		} else {
			reply.Answer = append(reply.Answer, &dns.AAAA{Hdr: header, AAAA: address.AsSlice()})
		}
	}
	return reply
}
