package words

import "fmt"

var numbers = []string{"No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine"}

// Count is a number of things at the start of a sentence: the small ones in words. thing is the word for one of
// them, "" where it follows by itself.
func Count(n int, thing string) string {
	w := fmt.Sprint(n)
	if n < len(numbers) {
		w = numbers[n]
	}
	if thing == "" {
		return w + " "
	}
	if n != 1 {
		thing += "s"
	}
	return w + " " + thing
}

// Plural is a number of things in figures.
func Plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Either is one of two texts: the first where something is so, else the other.
func Either(so bool, text, otherwise string) string {
	if so {
		return text
	}
	return otherwise
}
