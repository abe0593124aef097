import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data } from "./queries";

/** useHands asks for one request for hands, again and again: whoever is near gets no events. */
export const useHands = (hands: string) =>
  useQuery({
    queryKey: ["hands", hands],
    queryFn: () => data(api.GET("/api/v1/hands/{hands}", { params: { path: { hands } } })),
    refetchInterval: 3000,
  });

export const useAnswerHands = (hands: string) =>
  useMutation({
    mutationFn: (body: { done: boolean; note: string }) =>
      data(api.POST("/api/v1/hands/{hands}/answer", { params: { path: { hands } }, body })),
    ...again("hands", "loans"),
  });

export const useAskForHands = (loan: string) =>
  useMutation({
    mutationFn: () => data(api.POST("/api/v1/loans/{loan}/hands", { params: { path: { loan } }, body: {} })),
    ...again("loans"),
  });

export const useWithdrawHands = (hands: string) =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/hands/{hands}", { params: { path: { hands } } })),
    ...again("loans"),
  });

/** useHandover asks what was named on the page of a handover. */
export const useHandover = () => useQuery({ queryKey: ["handover"], queryFn: () => data(api.GET("/api/v1/handover")) });

export const useHandOver = () =>
  useMutation({
    mutationFn: (body: { serial: string; model: string }) => data(api.POST("/api/v1/handover", { body })),
    ...again("handover"),
  });
