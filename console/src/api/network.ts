import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data, Problem } from "./queries";

/** useNetwork asks what is heard on the network. */
export const useNetwork = () => useQuery({ queryKey: ["network"], queryFn: () => data(api.GET("/api/v1/network")) });

/** useIntroduction asks for the introduction that goes on, or the last one; null while there was none. */
export const useIntroduction = () =>
  useQuery({
    queryKey: ["introduction"],
    queryFn: async () => {
      try {
        return await data(api.GET("/api/v1/introduction"));
      } catch (e) {
        if (e instanceof Problem && e.status === 404) return null;
        throw e;
      }
    },
  });

export const useIntroduce = () =>
  useMutation({
    mutationFn: (body: { name: string; device?: string }) => data(api.POST("/api/v1/introduction", { body })),
    ...again("introduction", "network"),
  });

export const useTypeWords = () =>
  useMutation({
    mutationFn: (words: string) => data(api.POST("/api/v1/introduction/words", { body: { words } })),
    ...again("introduction"),
  });

export const useStopIntroduction = () =>
  useMutation({ mutationFn: () => data(api.DELETE("/api/v1/introduction")), ...again("introduction") });

export const useAddAddress = () =>
  useMutation({
    mutationFn: (address: string) => data(api.POST("/api/v1/network", { body: { address } })),
    ...again("network"),
  });

export const useDropAddress = () =>
  useMutation({
    mutationFn: (name: string) => data(api.DELETE("/api/v1/network/{name}", { params: { path: { name } } })),
    ...again("network"),
  });

export const useLogIn = (name: string) =>
  useMutation({
    mutationFn: (body: { accept: string; password: string }) =>
      data(api.POST("/api/v1/network/{name}/login", { params: { path: { name } }, body })),
    ...again("network"),
  });

export const useSetWireless = (handle: string) =>
  useMutation({
    mutationFn: (on: boolean) =>
      data(api.PUT("/api/v1/devices/{handle}/wireless", { params: { path: { handle } }, body: { on } })),
    ...again("network", "prep"),
  });
