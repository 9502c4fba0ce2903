package capture

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"golang.org/x/net/bpf"
)

// What stands in the scratch memory of a compiled choice, once its beginning has looked at a frame.
const (
	atNetwork   = iota // where the network layer begins
	etherType          // of the network layer
	atTransport        // where the transport layer begins
	protocol           // of the transport layer; noProtocol: there is none, or it is a later fragment's
)

const (
	noProtocol = 0x100

	typeIPv4, typeARP, typeIPv6, typeLLDP = 0x0800, 0x0806, 0x86dd, 0x88cc
	typeTag, typeOuterTag                 = 0x8100, 0x88a8
)

// code is a program that is being written: jumps go to labels, which are set later.
type code struct {
	out    []bpf.Instruction
	labels []int       // where each is, once it is set; -1 before
	jumps  map[int]int // the label that the jump at a place goes to
}

func (c *code) label() int {
	c.labels = append(c.labels, -1)
	return len(c.labels) - 1
}

func (c *code) set(label int) { c.labels[label] = len(c.out) }

func (c *code) put(i ...bpf.Instruction) { c.out = append(c.out, i...) }

// jump goes to a label, however far it is.
func (c *code) jump(label int) {
	c.jumps[len(c.out)] = label
	c.put(bpf.Jump{})
}

// when goes to one of two labels, however far they are: a condition itself does not reach far.
func (c *code) when(test bpf.JumpTest, value uint32, yes, no int) {
	c.put(bpf.JumpIf{Cond: test, Val: value, SkipFalse: 1})
	c.jump(yes)
	c.jump(no)
}

// network loads some octets of the network layer, transport some of the one above it.
func (c *code) network(offset uint32, size int) {
	c.put(bpf.LoadScratch{Dst: bpf.RegX, N: atNetwork}, bpf.LoadIndirect{Off: offset, Size: size})
}

func (c *code) transport(offset uint32, size int) {
	c.put(bpf.LoadScratch{Dst: bpf.RegX, N: atTransport}, bpf.LoadIndirect{Off: offset, Size: size})
}

func (c *code) scratch(n int) { c.put(bpf.LoadScratch{Dst: bpf.RegA, N: n}) }

// Compile makes the program by which a kernel sorts frames of Ethernet (bpf(4)), so that only those that are wanted are copied, and of each
// at most snap octets. A frame that ends before what it is looked at for is not wanted.
func (c *Choice) Compile(m Mine, snap int) ([]bpf.RawInstruction, error) {
	if c == nil || c.root == nil {
		return bpf.Assemble([]bpf.Instruction{bpf.RetConstant{Val: uint32(snap)}})
	}
	x := &code{jumps: map[int]int{}}
	yes, no := x.label(), x.label()
	x.begin()
	if err := x.write(c.root, m, yes, no); err != nil {
		return nil, err
	}
	x.set(yes)
	x.put(bpf.RetConstant{Val: uint32(snap)})
	x.set(no)
	x.put(bpf.RetConstant{Val: 0})
	for at, label := range x.jumps {
		x.out[at] = bpf.Jump{Skip: uint32(x.labels[label] - at - 1)}
	}
	const most = 4096 // of what a kernel takes
	if len(x.out) > most {
		return nil, errors.New("the choice is too long for a kernel: say less")
	}
	return bpf.Assemble(x.out)
}

// Taker gives what a choice does with a frame, for those that no kernel sorts.
func (c *Choice) Taker(m Mine) (func(frame []byte) bool, error) {
	raw, err := c.Compile(m, 1)
	if err != nil {
		return nil, err
	}
	program, _ := bpf.Disassemble(raw)
	vm, err := bpf.NewVM(program)
	if err != nil {
		return nil, err
	}
	return func(frame []byte) bool {
		n, err := vm.Run(frame)
		return err == nil && n > 0
	}, nil
}

// begin finds the layers of a frame.
func (c *code) begin() {
	tagged, plain, ended, four, six, known := c.label(), c.label(), c.label(), c.label(), c.label(), c.label()
	store := func(n int) { c.put(bpf.StoreScratch{Src: bpf.RegA, N: n}) }
	c.put(bpf.LoadConstant{Dst: bpf.RegA, Val: noProtocol})
	store(protocol)
	store(atTransport) // a kernel takes no program that might load what was not stored before
	c.put(bpf.LoadAbsolute{Off: 12, Size: 2})
	other := c.label()
	c.when(bpf.JumpEqual, typeTag, tagged, other)
	c.set(other)
	c.when(bpf.JumpEqual, typeOuterTag, tagged, plain)
	c.set(tagged) // one tag (IEEE 802.1Q); the kernel has taken it off what it hands out itself
	c.put(bpf.LoadConstant{Dst: bpf.RegA, Val: 18})
	store(atNetwork)
	c.put(bpf.LoadAbsolute{Off: 16, Size: 2})
	c.jump(known)
	c.set(plain)
	c.put(bpf.LoadConstant{Dst: bpf.RegA, Val: 14})
	store(atNetwork)
	c.put(bpf.LoadAbsolute{Off: 12, Size: 2})
	c.set(known)
	store(etherType)
	notFour := c.label()
	c.when(bpf.JumpEqual, typeIPv4, four, notFour)
	c.set(notFour)
	c.when(bpf.JumpEqual, typeIPv6, six, ended)

	c.set(four) // RFC 791 §3.1
	c.network(0, 1)
	c.put(bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: 0xf}, bpf.ALUOpConstant{Op: bpf.ALUOpShiftLeft, Val: 2}, bpf.ALUOpX{Op: bpf.ALUOpAdd})
	store(atTransport)
	c.network(6, 2)
	first := c.label()
	c.when(bpf.JumpBitsSet, 0x1fff, ended, first)
	c.set(first)
	c.network(9, 1)
	store(protocol)
	c.jump(ended)

	c.set(six) // RFC 8200 §3, §4
	c.network(6, 1)
	store(protocol)
	c.put(bpf.LoadScratch{Dst: bpf.RegA, N: atNetwork}, bpf.ALUOpConstant{Op: bpf.ALUOpAdd, Val: 40})
	store(atTransport)
	for range 3 { // extension headers that stand before the transport's
		skip, fragment, whole := c.label(), c.label(), c.label()
		c.scratch(protocol)
		for _, extension := range []uint32{0, 43, 60} {
			more := c.label()
			c.when(bpf.JumpEqual, extension, skip, more)
			c.set(more)
		}
		c.when(bpf.JumpEqual, 44, fragment, ended)
		c.set(fragment)
		c.transport(2, 2)
		later := c.label()
		c.when(bpf.JumpBitsSet, 0xfff8, later, whole)
		c.set(later)
		c.put(bpf.LoadConstant{Dst: bpf.RegA, Val: noProtocol})
		store(protocol)
		c.jump(ended)
		c.set(whole)
		c.transport(0, 1)
		store(protocol)
		c.put(bpf.LoadScratch{Dst: bpf.RegA, N: atTransport}, bpf.ALUOpConstant{Op: bpf.ALUOpAdd, Val: 8})
		store(atTransport)
		next := c.label()
		c.jump(next)
		c.set(skip)
		c.transport(0, 1)
		store(protocol)
		c.transport(1, 1)
		c.put(bpf.ALUOpConstant{Op: bpf.ALUOpAdd, Val: 1}, bpf.ALUOpConstant{Op: bpf.ALUOpShiftLeft, Val: 3}, bpf.ALUOpX{Op: bpf.ALUOpAdd})
		store(atTransport)
		c.set(next)
	}
	c.set(ended)
}

// write has the program go to yes or no by a part of the choice.
func (c *code) write(n node, m Mine, yes, no int) error {
	switch n := n.(type) {
	case anyOf:
		for i, part := range n {
			other := no
			if i < len(n)-1 {
				other = c.label()
			}
			if err := c.write(part, m, yes, other); err != nil {
				return err
			}
			if other != no {
				c.set(other)
			}
		}
	case allOf:
		for i, part := range n {
			further := yes
			if i < len(n)-1 {
				further = c.label()
			}
			if err := c.write(part, m, further, no); err != nil {
				return err
			}
			if further != yes {
				c.set(further)
			}
		}
	case unless:
		return c.write(n.of, m, no, yes)
	case word:
		return c.word(n, m, yes, no)
	case host:
		c.host(netip.Prefix(n), yes, no)
	case port:
		c.ported([]uint32{6, 17}, []uint32{uint32(n)}, yes, no)
	default:
		return fmt.Errorf("%T in a choice", n)
	}
	return nil
}

func (c *code) word(w word, m Mine, yes, no int) error {
	switch w {
	case "everything":
		c.jump(yes)
	case "mine":
		c.mine(m, yes, no)
	case "arp":
		c.scratch(etherType)
		c.when(bpf.JumpEqual, typeARP, yes, no)
	case "lldp":
		c.scratch(etherType)
		c.when(bpf.JumpEqual, typeLLDP, yes, no)
	case "icmp":
		c.oneOf(protocol, []uint32{1, 58}, yes, no)
	case "tcp":
		c.oneOf(protocol, []uint32{6}, yes, no)
	case "udp":
		c.oneOf(protocol, []uint32{17}, yes, no)
	case "connections":
		is := c.label()
		c.oneOf(protocol, []uint32{6}, is, no)
		c.set(is)
		c.transport(13, 1)
		c.when(bpf.JumpBitsSet, 0x07, yes, no) // FIN, SYN, RST
	case "dhcp":
		c.ported([]uint32{17}, []uint32{67, 68, 546, 547}, yes, no)
	case "dns":
		c.ported([]uint32{6, 17}, []uint32{53}, yes, no)
	case "mdns":
		c.ported([]uint32{17}, []uint32{5353}, yes, no)
	}
	return nil
}

// oneOf asks whether something in the scratch memory has one of several values.
func (c *code) oneOf(n int, values []uint32, yes, no int) {
	c.scratch(n)
	for i, v := range values {
		other := no
		if i < len(values)-1 {
			other = c.label()
		}
		c.when(bpf.JumpEqual, v, yes, other)
		if other != no {
			c.set(other)
		}
	}
}

// ported asks for one of several ports, at either end, of one of several protocols.
func (c *code) ported(protocols, ports []uint32, yes, no int) {
	has := c.label()
	c.oneOf(protocol, protocols, has, no)
	c.set(has)
	for _, offset := range []uint32{0, 2} {
		c.transport(offset, 2)
		for _, p := range ports {
			other := c.label()
			c.when(bpf.JumpEqual, p, yes, other)
			c.set(other)
		}
	}
	c.jump(no)
}

// mine asks whether a frame is from or to a hardware address.
func (c *code) mine(m Mine, yes, no int) {
	high, low := binary.BigEndian.Uint32(m.Hardware[:4]), uint32(binary.BigEndian.Uint16(m.Hardware[4:6]))
	for _, offset := range []uint32{0, 6} {
		rest, other := c.label(), c.label()
		c.put(bpf.LoadAbsolute{Off: offset, Size: 4})
		c.when(bpf.JumpEqual, high, rest, other)
		c.set(rest)
		c.put(bpf.LoadAbsolute{Off: offset + 4, Size: 2})
		c.when(bpf.JumpEqual, low, yes, other)
		c.set(other)
	}
	c.jump(no)
}

// host asks whether an address of a prefix is at either end; with ARP, whether it is asked for or asks.
func (c *code) host(p netip.Prefix, yes, no int) {
	if p.Addr().Is4() {
		four, notFour, arp := c.label(), c.label(), c.label()
		c.scratch(etherType)
		c.when(bpf.JumpEqual, typeIPv4, four, notFour)
		c.set(notFour)
		c.when(bpf.JumpEqual, typeARP, arp, no)
		c.set(four)
		c.inPrefix(p, 12, 16, yes, no)
		c.set(arp)
		c.inPrefix(p, 14, 24, yes, no)
		return
	}
	six := c.label()
	c.scratch(etherType)
	c.when(bpf.JumpEqual, typeIPv6, six, no)
	c.set(six)
	c.inPrefix(p, 8, 24, yes, no)
}

// inPrefix compares what stands at two places of the network layer, four octets at a time.
func (c *code) inPrefix(p netip.Prefix, source, destination uint32, yes, no int) {
	octets := p.Addr().AsSlice()
	for _, at := range []uint32{source, destination} {
		other := c.label()
		for i := 0; i < p.Bits(); i += 32 {
			mask := ^uint32(0)
			if rest := p.Bits() - i; rest < 32 {
				mask <<= 32 - rest
			}
			further := c.label()
			c.network(at+uint32(i/8), 4)
			c.put(bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: mask})
			c.when(bpf.JumpEqual, binary.BigEndian.Uint32(octets[i/8:])&mask, further, other)
			c.set(further)
		}
		c.jump(yes)
		c.set(other)
	}
	c.jump(no)
}
