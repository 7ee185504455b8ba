package acl

import (
	"fmt"
	"strings"
)

// Mask is a set of rights to a file or folder ([MS-SMB2] 2.2.13.1).
type Mask uint32

const (
	ReadData      Mask = 0x00000001 // list, for a folder
	WriteData     Mask = 0x00000002 // add a file, for a folder
	AppendData    Mask = 0x00000004 // add a folder, for a folder
	ReadExtra     Mask = 0x00000008 // extended attributes
	WriteExtra    Mask = 0x00000010
	Execute       Mask = 0x00000020 // pass through, for a folder
	DeleteChild   Mask = 0x00000040
	ReadAttr      Mask = 0x00000080
	WriteAttr     Mask = 0x00000100
	Delete        Mask = 0x00010000
	ReadControl   Mask = 0x00020000 // read permissions
	WriteControl  Mask = 0x00040000 // change permissions
	TakeOwnership Mask = 0x00080000
	Synchronize   Mask = 0x00100000
	SystemAudit   Mask = 0x01000000
	GenericAll    Mask = 0x10000000
	GenericExec   Mask = 0x20000000
	GenericWrite  Mask = 0x40000000
	GenericRead   Mask = 0x80000000

	generic = GenericAll | GenericExec | GenericWrite | GenericRead
)

// Combinations that programs ask for ([MS-DTYP] 2.5.1.1, FA FR FW FX).
const (
	AllAccess     Mask = 0x001F01FF
	ReadAccess    Mask = 0x00120089
	WriteAccess   Mask = 0x00120116
	ExecuteAccess Mask = 0x001200A0
)

// Mapped replaces generic rights by what they mean for files.
func (m Mask) Mapped() Mask {
	if m&generic == 0 {
		return m
	}
	for _, g := range []struct{ generic, means Mask }{{GenericAll, AllAccess}, {GenericRead, ReadAccess}, {GenericWrite, WriteAccess}, {GenericExec, ExecuteAccess}} {
		if m&g.generic != 0 {
			m = m&^g.generic | g.means
		}
	}
	return m
}

// Level is what a set of rights amounts to, in the words that people use.
type Level string

const (
	Full    Level = "full"    // everything, and change permissions and owner
	Change  Level = "change"  // read, write, and remove
	Write   Level = "write"   // read and write, and not remove
	Read    Level = "read"    // read, and see permissions
	ListIt  Level = "list"    // see names
	None    Level = "none"    // nothing
	Unusual Level = "special" // something else: see the mask
)

// Levels are the levels that can be asked for, from most to least.
var Levels = []Level{Full, Change, Write, Read, ListIt, None}

// levels in order from most to least: what each needs, and what it may have beside that.
var levels = []struct {
	level        Level
	needs, spare Mask
}{
	{Full, AllAccess &^ DeleteChild, DeleteChild},
	{Change, ReadAccess | WriteAccess | Delete, Execute | DeleteChild},
	{Write, ReadAccess | WriteAccess, Execute},
	{Read, ReadAccess, Execute},
	{ListIt, ReadData | ReadAttr | Synchronize, Execute | ReadExtra | ReadControl},
}

// harmless rights amount to nothing by themselves: waiting, passing through,
// and seeing that the thing is there.
const harmless = Synchronize | Execute | ReadAttr

// Level says what m amounts to; Unusual when it is no level exactly.
func (m Mask) Level() Level {
	m = m.Mapped()
	if m&^harmless == 0 {
		return None
	}
	for _, l := range levels {
		if m&l.needs == l.needs && m&^(l.needs|l.spare) == 0 {
			return l.level
		}
	}
	return Unusual
}

// AtLeast reports whether m has all that a level needs.
func (m Mask) AtLeast(level Level) bool {
	m = m.Mapped()
	for _, l := range levels {
		if l.level == level {
			return m&l.needs == l.needs
		}
	}
	return level == None
}

// Mask is the set of rights that a level grants; zero for None and Unusual.
func (l Level) Mask() Mask {
	switch l {
	case Full:
		return AllAccess
	case Change:
		return ReadAccess | WriteAccess | ExecuteAccess | Delete
	case Write:
		return ReadAccess | WriteAccess | ExecuteAccess
	case Read:
		return ReadAccess | ExecuteAccess
	case ListIt:
		return ReadData | ReadAttr | Execute | Synchronize
	}
	return 0
}

// rightNames in the order in which they are read out.
var rightNames = []struct {
	mask         Mask
	file, folder string
}{
	{ReadData, "read content", "list"}, {WriteData, "write content", "add files"}, {AppendData, "append", "add folders"},
	{Execute, "execute", "pass through"}, {Delete, "remove", "remove"}, {DeleteChild, "remove what is in it", "remove what is in it"},
	{ReadAttr, "read attributes", "read attributes"}, {WriteAttr, "write attributes", "write attributes"},
	{ReadExtra, "read extended attributes", "read extended attributes"}, {WriteExtra, "write extended attributes", "write extended attributes"},
	{ReadControl, "read permissions", "read permissions"}, {WriteControl, "change permissions", "change permissions"},
	{TakeOwnership, "take ownership", "take ownership"}, {SystemAudit, "read the audit list", "read the audit list"},
}

// nearlyAll is everything but what nobody misses or what follows from the rest.
const nearlyAll = AllAccess &^ (harmless | DeleteChild)

// Words lists the rights of m.
func (m Mask) Words(folder bool) []string {
	m = m.Mapped()
	if m&nearlyAll == nearlyAll {
		return []string{"everything"}
	}
	words := []string{}
	for _, r := range rightNames {
		if m&r.mask != 0 {
			word := r.file
			if folder {
				word = r.folder
			}
			words = append(words, word)
			m &^= r.mask
		}
	}
	if m &^= Synchronize; m != 0 {
		words = append(words, fmt.Sprintf("0x%x", uint32(m)))
	}
	return words
}

// verb is what somebody with these rights may do, as part of a sentence.
func (m Mask) verb(folder bool) string {
	switch l := m.Level(); l {
	case Full:
		return "do everything to"
	case Change:
		return "change"
	case Write:
		return "write, and not remove,"
	case Read:
		return "read"
	case ListIt:
		return "list"
	case None:
		return "do nothing with"
	}
	return strings.Join(m.Words(folder), ", ") + " (special) on"
}

// String is the level, or the mask in hexadecimal when it is no level.
func (m Mask) String() string {
	if l := m.Level(); l != Unusual {
		return string(l)
	}
	return fmt.Sprintf("0x%08x", uint32(m))
}
