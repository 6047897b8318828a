package engine

import (
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
)

// Rows reads the rows of an answer as text, most at the most; NULL is "". It closes
// the answer.
func Rows(answer driver.Rows, most int) (rows [][]string, err error) {
	defer answer.Close()
	values := make([]driver.Value, len(answer.Columns()))
	for len(rows) < most {
		if err := answer.Next(values); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return rows, err
		}
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = text(v)
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// text is a value as the server wrote it.
func text(v driver.Value) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []byte:
		return string(v)
	}
	return fmt.Sprint(v)
}
