package step_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/match"
	"welkin/core/step"
)

var towns = []string{"Saltmere", "Ormskell", "Ormskall", "Fennwick", "Högdal"}

func TestPairsPutTheMostDoubtfulFirst(t *testing.T) {
	s := &step.MatchNames{Near: 0.9, Margin: 0.05, Decided: []step.DecidedPair{{Value: "Fenwik", Name: "Fennwick"}, {Value: "nowhere"}}}
	pairs, err := s.Pairs([]string{"Saltmeer", "Saltmere", "saltmeer", "Ormskll", "Fenwik", "Zzz", "nowhere", "HOGDAL"}, towns)
	require.NoError(t, err)
	byValue := map[string]step.Pair{}
	for _, p := range pairs {
		byValue[p.Value] = p
	}
	require.NotContains(t, byValue, "Saltmere", "what is exactly there needs no look")
	require.NotContains(t, byValue, "HOGDAL", "case and accents don't count")
	require.Equal(t, 2, byValue["Saltmeer"].Rows, "values that differ by case are one")
	require.Equal(t, step.MatchNear, byValue["Saltmeer"].Branch)
	require.Equal(t, "Saltmere", byValue["Saltmeer"].Name)
	require.Equal(t, step.MatchUnclear, byValue["Ormskll"].Branch, "the second best is as near")
	require.ElementsMatch(t, []string{"Ormskell", "Ormskall"}, []string{byValue["Ormskll"].Name, byValue["Ormskll"].Second})
	require.True(t, byValue["Fenwik"].Decided)
	require.Equal(t, "Fennwick", byValue["Fenwik"].Name)
	require.Equal(t, step.MatchFar, byValue["nowhere"].Branch)
	require.Empty(t, byValue["nowhere"].Name)
	require.Equal(t, step.MatchFar, byValue["Zzz"].Branch)
	require.True(t, pairs[len(pairs)-1].Decided && pairs[len(pairs)-2].Decided, "what was decided comes last")
}

func TestPairsRefuseSettingsThatMakeNoSense(t *testing.T) {
	_, err := (&step.MatchNames{Near: 0.5, Unclear: 0.9}).Pairs([]string{"a"}, towns)
	require.ErrorContains(t, err, "unclear begins below near")
	_, err = (&step.MatchNames{Algorithm: "by ear"}).Pairs([]string{"a"}, towns)
	require.ErrorContains(t, err, "by ear")
}

// TestPairsAgreeWithTheirOwnScores: what the list says of a value is what the rules say
// of its score, whatever the thresholds are.
func TestPairsAgreeWithTheirOwnScores(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		near := rapid.Float64Range(0.5, 1).Draw(t, "near")
		s := &step.MatchNames{Near: near, Unclear: near * rapid.Float64Range(0.3, 1).Draw(t, "unclear"), Margin: rapid.Float64Range(0.001, 0.2).Draw(t, "margin"),
			Algorithm: rapid.SampledFrom(match.Algorithms()).Draw(t, "algorithm")}
		values := rapid.SliceOf(rapid.StringMatching(`[a-eO-Sö ]{0,9}`)).Draw(t, "values")
		pairs, err := s.Pairs(values, towns)
		require.NoError(t, err)
		rows := 0
		for _, p := range pairs {
			rows += p.Rows
			require.NotEqual(t, step.MatchExact, p.Branch)
			require.GreaterOrEqual(t, p.Score, p.Next)
			close := p.Second != "" && p.Score-p.Next < s.Margin
			switch {
			case p.Score >= s.Near && !close:
				require.Equal(t, step.MatchNear, p.Branch)
			case p.Score >= s.Unclear:
				require.Equal(t, step.MatchUnclear, p.Branch)
			default:
				require.Equal(t, step.MatchFar, p.Branch)
			}
		}
		require.LessOrEqual(t, rows, len(values))
	})
}
